//go:build screenshots

package e2e

import (
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"

	"inkret/api/wire"
)

// TestScreenshots writes the pictures of docs/screenshots anew from the demo. It
// is built for that alone (make screenshots), and INKRET_SCREENSHOTS names the folder.
func TestScreenshots(t *testing.T) {
	dir := os.Getenv("INKRET_SCREENSHOTS")
	if dir == "" {
		t.Fatal("INKRET_SCREENSHOTS names no folder")
	}
	s, recordings := startDemo(t)
	terminalPictures(t, s, dir, recordings)
	b := newBrowser(t)
	shot := func(name string, actions ...chromedp.Action) {
		t.Helper()
		var png []byte
		b.do(name, append(actions, settled(), chromedp.CaptureScreenshot(&png))...)
		if err := os.WriteFile(filepath.Join(dir, name+".png"), png, 0o644); err != nil {
			t.Fatal(err)
		}
	}
	b.signIn(s, demoReviewer)
	shot("home", shows("Latest recordings"))
	shot("findings", chromedp.Navigate(s.url+"/findings"), shows("secret-value"))
	shot("finding", chromedp.Click(`//tr[contains(., "password_hash")][contains(., "visitor")]//a`, chromedp.BySearch),
		shows("How it is usually mended"), shows("password_hash"), chromedp.WaitVisible(`.wire-row.chosen`))
	shot("standing", chromedp.Navigate(s.url+"/standing"), shows("Skipper.password_hash"))
	shot("result", chromedp.Navigate(s.url+"/results/2"), shows("9 findings new against main"))
	b.do("the endpoints", chromedp.Navigate(s.url+"/endpoints"), shows("GET /v1/berths"))
	shot("endpoint", chromedp.Click(`//a[text()="GET /v1/bookings/{booking_id}"]`, chromedp.BySearch),
		chromedp.WaitVisible(`.wire-row`))
	shot("capture", chromedp.Navigate(s.url+"/captures/1"), chromedp.WaitVisible(`.wire-row`))
	shot("entities", chromedp.Navigate(s.url+"/entities/fennick-quay/Skipper"), shows("loyalty_tier"))
	shot("exposure", chromedp.Navigate(s.url+"/exposure"), shows("Berth.id"))
	shot("coverage", chromedp.Navigate(s.url+"/contracts?tab=coverage"), shows("seen without a contract"))
	shot("new-service", chromedp.Navigate(s.url+"/new"), shows("Bring an API under review"),
		chromedp.SendKeys(`input[maxlength="100"]`, "harbour"),
		chromedp.SetUploadFiles(`.beginning-upload input[type="file"]`, []string{filepath.Join(recordings, "skipper.har"),
			filepath.Join(recordings, "harbour-office.har")}, chromedp.ByQuery),
		shows("open, the most important first"), shows("Skipper.password_hash"))
	shot("editor", chromedp.Navigate(s.url+"/endpoints"), shows("GET /v1/berths"),
		chromedp.Click(`//a[text()="GET /v1/berths/{berth_id}"]`, chromedp.BySearch), press("Edit the contract"),
		shows("Berth has"),
		chromedp.Click(`//label[contains(., "repair_note")]`, chromedp.BySearch),
		shows("Grant repair_note by the shape"), button("Only here"), shows("lets visitor"),
		until(`!document.querySelector(".ant-modal-confirm")`),
		tab("Effect on recorded traffic"), press("Judge the recorded captures by both"), shows("would go"))
	b.do("something to approve", chromedp.Evaluate(`sessionStorage.clear()`, nil),
		chromedp.Navigate(s.url+"/entities/fennick-quay/Skipper?q=email"),
		shows("its name tells of something personal"), chromedp.Click(`[aria-label="Class of Skipper.email"]`),
		chromedp.KeyEvent(kb.ArrowUp+kb.Enter), press("Save 1 class"), shows("waits for a second person"))
	shot("revision", chromedp.Navigate(s.url+"/contracts/fennick-quay/revisions/2"), shows("waits for a second person"))
	againPictures(t, s, b, shot)
	recorded := s.address(t, "recorded")
	b.do("watch", chromedp.Evaluate(`localStorage.setItem("inkret.theme", "dark")`, nil),
		chromedp.Navigate(s.url+"/live"), shows("watching"))
	for _, path := range []string{"/", "/v1/berths/106", "/v1/notices", "/v1/tides", "/v1/boats/701", "/v1/berths/104",
		"/v1/berths"} {
		call(t, recorded+path)
	}
	for _, path := range []string{"/v1/staff", "/v1/charges", "/v1/bookings/7004", "/v1/skippers/505"} {
		call(t, recorded+path, "X-Desk", "2")
	}
	call(t, recorded+"/arrivals")
	shot("live", shows("12 calls"),
		until(`document.querySelector(".live-row.chosen")?.innerText.includes("/arrivals")`), shows(">> script#state"))
	reported(t, dir)
	if said := b.said(); len(said) > 0 {
		t.Errorf("the browser complains: %q", said)
	}
}

// againPictures writes the pictures of calls made again, as every audience and by the clock.
func againPictures(t *testing.T, s *server, b *browser, shot func(string, ...chromedp.Action)) {
	home := as(t, s, "noor")
	found := decode[wire.FindingPage](t, run(t, home, nil, "finding", "list", "--kind", "foreign-record", "--search",
		"booking_id", "--format", "json").out).Items[0].ID
	b.do("what would be sent", chromedp.Navigate(s.url+"/findings/"+found), shows("another person's"), settled(),
		chromedp.Click(`//section[@aria-label="Evidence"]//a`, chromedp.BySearch), shows("As every audience…"),
		button("As every audience…"), shows("Nothing was sent yet"))
	shot("matrix", button("Make 4 calls"), shows("skipper (vesna)"), shows("$.data.ref"))
	run(t, home, nil, "watch", "make", "nightly", "--proposed", "--window", "01:00-04:00", "--per-minute", "600")
	run(t, home, nil, "watch", "run", "1")
	shot("watch", chromedp.Navigate(s.url+"/watches/1"), shows("nightly"))
}

// terminalPictures writes the pictures of the commands.
func terminalPictures(t *testing.T, s *server, dir, recordings string) {
	home := t.TempDir()
	signIn(t, s, home)
	contracts := filepath.Join(home, "contracts")
	os.Mkdir(contracts, 0o755)
	for _, name := range []string{"fennick-quay.yaml", "catalogue.yaml", "harbour.graphql"} {
		if err := os.Rename(filepath.Join(recordings, name), filepath.Join(contracts, name)); err != nil {
			t.Fatal(err)
		}
	}
	terminalShot(t, home, filepath.Join(dir, "check.png"), "inkret check --contracts contracts/ skipper.har",
		"cd "+recordings+" && inkret check --contracts "+contracts+" skipper.har")
	id := decode[wire.FindingPage](t, run(t, home, nil, "finding", "list", "--format", "json", "--search",
		"POST skippers password").out).Items[0].ID
	terminalShot(t, home, filepath.Join(dir, "finding-show.png"), "inkret finding show "+id, "inkret finding show "+id)
}

// reported writes the picture of the report for an auditor.
func reported(t *testing.T, dir string) {
	data := t.TempDir()
	release := func(n string) *server {
		return start(t, "demo", "--release", n, "--listen", "127.0.0.1:0", "--harbour", "127.0.0.1:0", "--recorder",
			"127.0.0.1:0", "--mailbox", "127.0.0.1:0", "--provider", "127.0.0.1:0", "--data", data)
	}
	release("1").stop(t)
	s := release("2")
	home := as(t, s, "noor")
	id := decode[wire.FindingPage](t, run(t, home, nil, "finding", "list", "--kind", "heavy-excess", "--format",
		"json").out).Items[0].ID
	run(t, home, nil, "finding", "move", id, "waived", "--until", time.Now().UTC().AddDate(0, 1,
		0).Format(time.DateOnly), "-m", "a thinner list comes with the next release")
	b := newBrowser(t)
	b.signIn(s, demoReviewer)
	var png []byte
	audit := filepath.Join(t.TempDir(), "risk.html")
	run(t, home, nil, "finding", "report", "--format", "html", "--state", "any", "-o", audit)
	b.do("the auditor's report", chromedp.Navigate("file://"+audit), shows("Waivers in force"),
		chromedp.CaptureScreenshot(&png))
	if err := os.WriteFile(filepath.Join(dir, "report.png"), png, 0o644); err != nil {
		t.Fatal(err)
	}
}
