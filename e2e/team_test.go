package e2e

import (
	"io"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"
	"github.com/pquerna/otp/totp"

	"inkret/api/wire"
)

const (
	demoViewer = "iva@fennick-quay.example"
	demoLead   = "teodor@fennick-quay.example"
)

// button clicks one by what is written on it, when nothing moves any more: what slides in is
// not where a click was aimed at.
func button(text string) chromedp.Action {
	return chromedp.Tasks{settled(), chromedp.Click(`//button[contains(., "`+text+`")]`, chromedp.BySearch)}
}

// TestATeamWorksOnFindings has three people at it, each in a browser of their own: one hands
// out and undoes, one is told and answers, one looks on.
func TestATeamWorksOnFindings(t *testing.T) {
	s, _ := startDemo(t)
	noor, teodor, iva := newBrowser(t), newBrowser(t), newBrowser(t)
	noor.signIn(s, demoReviewer)
	teodor.signIn(s, demoLead)
	iva.signIn(s, demoViewer)

	noor.do("all of one field are handed out", chromedp.Navigate(s.url+"/findings?entity=Skipper&field=password_hash"),
		shows("4 findings"), button("Change all 4…"), shows("Change all 4 findings that fit"),
		chromedp.SendKeys(`//input[@id="person"]`, "Teodor"+kb.Enter, chromedp.BySearch),
		chromedp.SendKeys(`//input[@id="add"]`, "row-mapper,", chromedp.BySearch),
		chromedp.SendKeys(`//textarea[@id="comment"]`, "one repair, @iva: the row goes out **whole** <script>",
			chromedp.BySearch), button("See what changes"),
		shows("4 findings of 4 change: assigned to Teodor Brandt, +row-mapper, with a comment."),
		button("Change 4 findings"), shows("4 findings changed"), shows("Teodor Brandt"), shows("row-mapper"))
	teodor.do("who has them sees so at home", chromedp.Navigate(s.url+"/"), shows("Yours: what is due first"),
		shows("All 4 findings of yours"), shows("4 notices that you have not read"))
	teodor.do("reads what he is told", chromedp.Navigate(s.url+"/notices"), shows("4 notices"),
		shows("assigned to you"), button("Mark all as read"), shows("Nothing that you have not read"))
	teodor.do("and what was said", chromedp.Navigate(s.url+"/findings?assigned=me&q=POST"), shows("1 finding"),
		chromedp.Click(`//td//a[text()="secret-value"]`, chromedp.BySearch),
		shows("one repair, @iva: the row goes out whole <script>"),
		shows("assigned team accounts → Teodor Brandt"), shows("✓ Following"),
		chromedp.WaitVisible(`//div[@class="said"]//strong[text()="whole"]`, chromedp.BySearch))
	teodor.do("another day and another label", chromedp.SendKeys(`//input[@aria-label="Labels"]`, "q3"+kb.Enter,
		chromedp.BySearch), shows("labels row-mapper → q3, row-mapper"))
	noor.do("undoes it, but for what was changed since", button("Undo"),
		shows("3 findings as before, 1 left: changed since"))
	teodor.do("has one left", chromedp.Navigate(s.url+"/findings?assigned=me"), shows("1 finding"))
	iva.do("who only looks on changes nothing", chromedp.Navigate(s.url+"/findings?label=q3"), shows("1 finding"),
		until(`!document.querySelector(".ant-checkbox") && !document.body.innerText.includes("Change all")`))
	iva.do("but follows", chromedp.Click(`//td//a[text()="secret-value"]`, chromedp.BySearch), shows("Who has it"),
		button("Follow"), shows("✓ Following"))
	noor.do("a view is kept and shared", chromedp.Navigate(s.url+"/findings?state=any&kind=secret-value"),
		shows("4 findings"), button("Views"), chromedp.SendKeys(`input[placeholder^="Keep this list"]`, "Secrets"),
		chromedp.Click(`//span[text()="others see it too"]`, chromedp.BySearch),
		chromedp.Click(`//button[normalize-space()="Keep"]`, chromedp.BySearch), shows("Kept as Secrets"))
	iva.do("others have it", chromedp.Navigate(s.url+"/findings"), shows("78 findings"), button("Views"),
		shows("of Noor Adeyar"), settled(), chromedp.Click(`//a[text()="Secrets"]`, chromedp.BySearch),
		address("kind=secret-value"), shows("4 findings"))
	quiet(noor, teodor, iva)
}

// choose chooses in a list that is searched by typing, once what was typed is found in it.
func choose(id, text string) chromedp.Action {
	field := `//input[@id="` + id + `"]`
	return chromedp.Tasks{chromedp.Click(field, chromedp.BySearch), chromedp.SendKeys(field, text, chromedp.BySearch),
		until(`[...document.querySelectorAll(".ant-select-dropdown:not(.ant-select-dropdown-hidden) ` +
			`.ant-select-item-option-active")].some((o) => o.innerText.toLowerCase().includes(` +
			strings.ToLower(quote(text)) + `))`), chromedp.KeyEvent(kb.Enter)}
}

// TestAFieldIsAskedForAndGranted goes from an entity's page over the reviewer's decision and
// the lead's approval to the contract that grants it.
func TestAFieldIsAskedForAndGranted(t *testing.T) {
	s, home := startDemo(t)
	iva, noor, teodor := newBrowser(t), newBrowser(t), newBrowser(t)
	iva.signIn(s, demoViewer)
	send := chromedp.Click(`//button[normalize-space()="Ask"]`, chromedp.BySearch)
	iva.do("asks where the field is looked at", chromedp.Navigate(s.url+"/entities/fennick-quay/Skipper?field=email"),
		shows("seen just now"), settled(), button("Ask for this field…"), shows("Ask for a field"),
		choose("endpoint", "GET /v1/bookings/{booking_id}"), send, shows("Say who needs it"))
	iva.do("and says who needs it", chromedp.SendKeys(`//input[@id="needed_by"]`, "arrivals page", chromedp.BySearch),
		chromedp.SendKeys(`//textarea[@id="reason"]`, "the desk writes to late arrivals", chromedp.BySearch),
		choose("audience", "harbour-office"),
		send, address("/requests/1"), shows("waiting"), shows("email: {needed_by: [arrivals page]"),
		shows("It is personal"))
	noor.signIn(s, demoReviewer)
	noor.do("the reviewer finds it at home", shows("1 exposure request waits for a decision"),
		chromedp.Click(`//a[contains(., "exposure request")]`, chromedp.BySearch), shows("Skipper.email"),
		chromedp.Click(`//td//a[text()="Skipper.email"]`, chromedp.BySearch), shows("Decide"))
	noor.do("grants less, and must say why", chromedp.Click(`//span[text()="Grant less"]`, chromedp.BySearch),
		chromedp.SendKeys(`//input[@id="max"]`, "60", chromedp.BySearch), button("Grant less"),
		shows("Say why, for whoever asked"),
		chromedp.SendKeys(`//textarea[@id="comment"]`, "sixty will do", chromedp.BySearch), button("Grant less"),
		shows("granted less"), shows("says so."))
	teodor.signIn(s, demoLead)
	teodor.do("a second person approves", chromedp.Navigate(s.url+"/requests?show=all"), shows("1 request"),
		chromedp.Click(`//td//a[text()="Skipper.email"]`, chromedp.BySearch),
		chromedp.Click(`//a[contains(., "of the contracts")]`, chromedp.BySearch), shows("sixty"),
		address("/revisions/"))
	signInAs(t, s, home, demoLead)
	var revision string
	teodor.do("its number", chromedp.Evaluate(`location.pathname.split("/").pop()`, &revision))
	if r := run(t, home, nil, "contract", "approve", "fennick-quay", revision, "--comment", "fine"); r.status != 0 {
		t.Fatalf("approving gave %d: %s%s", r.status, r.out, r.err)
	}
	if r := run(t, home, nil, "contract", "export", "fennick-quay"); !strings.Contains(r.out, "max: 60") ||
		!strings.Contains(r.out, "needed_by: [arrivals page]") {
		t.Errorf("the contract has no such grant:\n%s%s", r.out, r.err)
	}
	iva.do("who asked is told", chromedp.Navigate(s.url+"/notices"), shows("your request was decided"),
		shows("countered"))
}

// signInAs signs the command line in as somebody.
func signInAs(t *testing.T, s *server, home, email string) {
	t.Helper()
	if r := run(t, home, strings.NewReader(demoPassword+"\n"), "sign-in", s.url, "--email", email,
		"--password-stdin"); r.status != 0 {
		t.Fatalf("signing in gave %d:\n%s%s", r.status, r.out, r.err)
	}
}

// TestSeveralPeopleOnTheCommandLine goes through what several people do, as one who writes scripts.
func TestSeveralPeopleOnTheCommandLine(t *testing.T) {
	s, home := startDemo(t)
	signIn(t, s, home)
	changed := decode[wire.FindingsChanged](t, run(t, home, nil, "finding", "change", "--filter", "kind=heavy-excess",
		"--assign", "me", "--label", "later", "--due", "2020-01-01", "--yes", "--format", "json").out)
	if changed.Findings != 3 || changed.ID == nil || *changed.Matched != 3 {
		t.Fatalf("changed %+v", changed)
	}
	page := decode[wire.FindingPage](t, run(t, home, nil, "finding", "list", "--assigned", "me", "--due", "over",
		"--sort", "due", "--format", "json").out)
	if page.Total != 3 || page.Items[0].Person == nil || page.Items[0].Person.Name != "Noor Adeyar" ||
		(*page.Items[0].Labels)[0] != "later" {
		t.Errorf("the list has %+v", page)
	}
	if r := run(t, home, nil, "finding", "list", "--label", "later"); r.status != 0 ||
		!strings.Contains(r.out, "Noor Adeyar") || !strings.Contains(r.out, "2020-01-01") {
		t.Errorf("exit %d\n%s%s", r.status, r.out, r.err)
	}
	if r := run(t, home, nil, "finding", "keep-view", "Later", "label=later&state=any", "--share"); r.status != 0 ||
		!strings.Contains(r.out, "/findings?label=later&state=any") {
		t.Errorf("exit %d\n%s%s", r.status, r.out, r.err)
	}
	if page := decode[wire.FindingPage](t, run(t, home, nil, "finding", "list", "--view", "later", "--format",
		"json").out); page.Total != 3 {
		t.Errorf("the view has %d findings", page.Total)
	}
	if undone := decode[wire.Undone](t, run(t, home, nil, "finding", "undo", "1", "--format",
		"json").out); undone.Undone != 3 || len(undone.Left) != 0 {
		t.Errorf("undone %+v", undone)
	}
	if r := run(t, home, nil, "finding", "undo", "1"); r.status == 0 ||
		!strings.Contains(r.err, "no change 1 that could be undone") {
		t.Errorf("undone twice: exit %d\n%s", r.status, r.err)
	}
	q := decode[wire.ExposureRequest](t, run(t, home, nil, "request", "ask", "GET /v1/berths", "Berth.depth_m",
		"--audience", "visitor", "--needed-by", "map", "--reason", "deep keels", "--format", "json").out)
	if q.State != wire.RequestStateOpen || *q.Grant != "depth_m: {needed_by: [map], reason: deep keels}" {
		t.Errorf("asked %+v", q)
	}
	if r := run(t, home, nil, "request", "decline", "1"); r.status == 0 || !strings.Contains(r.err, "needs a reason") {
		t.Errorf("declined without a reason: exit %d\n%s", r.status, r.err)
	}
	standing := decode[wire.Standing](t, run(t, home, nil, "finding", "standing", "--days", "7", "--format",
		"json").out)
	if last := standing.Days[len(standing.Days)-1]; last.Open.Critical != 7 || last.Found != 78 ||
		len(standing.Endpoints) != 10 || standing.Endpoints[0].Name != "GET /v1/berths" ||
		standing.Fields[0].Name != "Skipper.password_hash" {
		t.Errorf("it stands %+v", standing)
	}
	page7 := filepath.Join(t.TempDir(), "risk.html")
	if r := run(t, home, nil, "finding", "report", "--format", "html", "--severity", "critical", "-o",
		page7); r.status != 0 || !strings.Contains(r.out, "What is tracked of fennick-quay is in") {
		t.Errorf("exit %d\n%s%s", r.status, r.out, r.err)
	}
	if text, err := os.ReadFile(page7); err != nil || !strings.Contains(string(text), "$.data.password_hash") ||
		strings.Contains(string(text), "http://") && strings.Contains(string(text), "<script") {
		t.Errorf("the report: %v", err)
	}
	baseline := run(t, home, nil, "finding", "report", "--format", "json", "--state", "any")
	if got := decode[checked](t, baseline.out); got.Service != "fennick-quay" || len(got.Findings) != 78 ||
		got.Summary.Captures == 0 {
		t.Errorf("as JSON %d findings, %+v", len(got.Findings), got.Summary)
	}
	granted := decode[wire.ExposureRequest](t, run(t, home, nil, "request", "grant", "1", "--format", "json").out)
	if granted.State != wire.RequestStateGranted || granted.Revision == nil {
		t.Errorf("granted %+v", granted)
	}
	if r := run(t, home, nil, "contract", "export", "fennick-quay"); !strings.Contains(r.out,
		"depth_m: {audiences: [visitor], needed_by: [map], reason: deep keels}") {
		t.Errorf("the contract has no such grant:\n%s%s", r.out, r.err)
	}
}

// TestPeopleAndTheSecondFactor invites somebody, who sets up a second factor in the console and
// signs in with it there and on the command line, until an administrator keeps them out.
func TestPeopleAndTheSecondFactor(t *testing.T) {
	s, home := startDemo(t)
	signInAs(t, s, home, "marlo@fennick-quay.example")
	invited := decode[wire.Invited](t, run(t, home, nil, "person", "invite", "tamsin@fennick-quay.example", "--role",
		"reviewer", "--format", "json").out)
	b := newBrowser(t)
	b.do("the link sets up", chromedp.Navigate(invited.Link), shows("Set yourself up"),
		chromedp.SendKeys(`//input[@id="name"]`, "Tamsin Oster", chromedp.BySearch),
		chromedp.SendKeys(`input[autocomplete="new-password"]`, demoPassword), chromedp.Click(`button[type="submit"]`),
		shows("What needs you"))
	var secret, codes string
	b.do("a second factor is begun", chromedp.Click(`//a[text()="Tamsin Oster"]`, chromedp.BySearch),
		shows("Where you are signed in"), button("Set one up…"),
		chromedp.SendKeys(`.ant-modal input[autocomplete="current-password"]`, "wrong"+kb.Enter),
		shows("password is wrong"),
		chromedp.SendKeys(`.ant-modal input[autocomplete="current-password"]`, kb.Backspace+kb.Backspace+kb.Backspace+
			kb.Backspace+kb.Backspace+demoPassword+kb.Enter), shows("The code that it shows"),
		until(`document.querySelector("section[aria-label='Second factor'] img")?.naturalWidth === 220`),
		chromedp.Text(`section[aria-label="Second factor"] .code`, &secret))
	b.do("a wrong code is told", chromedp.SendKeys(`//input[@id="code"]`, "000000"+kb.Enter, chromedp.BySearch),
		shows("the code is wrong"))
	code := func(later time.Duration) string {
		code, err := totp.GenerateCode(strings.TrimSpace(secret), time.Now().Add(later))
		if err != nil {
			t.Fatal(err)
		}
		return code
	}
	b.do("the right one confirms it", selected(`#code`), chromedp.KeyEvent(code(0)+kb.Enter),
		shows("Your recovery codes"), chromedp.Text(`.ant-modal pre`, &codes), button("I have kept them"),
		shows("10 recovery codes are left"))
	recovery := strings.Fields(codes)
	if len(recovery) != 10 {
		t.Fatalf("recovery codes %q", codes)
	}
	b.do("signing in asks for it", settled(), until(`!document.querySelector(".ant-modal-mask")?.offsetParent`),
		chromedp.Click(`[aria-label="Sign out"]`), shows("E-mail address"),
		chromedp.SendKeys(`input[autocomplete="username"]`, "tamsin@fennick-quay.example"),
		chromedp.SendKeys(`input[autocomplete="current-password"]`, demoPassword+kb.Enter),
		shows("Code of your second factor"), chromedp.SendKeys(`//input[@id="code"]`, code(30*time.Second)+kb.Enter,
			chromedp.BySearch), shows("What needs you"))

	hers := t.TempDir()
	signs := func(args ...string) result {
		return run(t, hers, strings.NewReader(demoPassword+"\n"),
			append([]string{"sign-in", s.url, "--email", "tamsin@fennick-quay.example", "--password-stdin"},
				args...)...)
	}
	if r := signs(); r.status == 0 || !strings.Contains(r.err, "--code") {
		t.Errorf("without a code: exit %d\n%s", r.status, r.err)
	}
	if r := signs("--code", recovery[0]); r.status != 0 || !strings.Contains(r.out, "Tamsin Oster (reviewer)") {
		t.Errorf("with a recovery code: exit %d\n%s%s", r.status, r.out, r.err)
	}
	if r := run(t, home, nil, "person", "role", "tamsin@fennick-quay.example", "lead"); r.status != 0 ||
		!strings.Contains(r.out, "is lead and may come in") {
		t.Errorf("exit %d\n%s%s", r.status, r.out, r.err)
	}
	if r := run(t, home, nil, "person", "keep-out", "tamsin@fennick-quay.example"); r.status != 0 ||
		!strings.Contains(r.out, "may not come in") {
		t.Errorf("exit %d\n%s%s", r.status, r.out, r.err)
	}
	if r := run(t, hers, nil, "finding", "list"); r.status == 0 {
		t.Error("who is kept out lists findings")
	}
	b.do("her browser is out too", chromedp.Navigate(s.url+"/findings"), shows("E-mail address"))
	if r := run(t, home, nil, "person", "list"); !strings.Contains(r.out, "kept out") ||
		!strings.Contains(r.out, "Tamsin Oster") {
		t.Errorf("the list says\n%s", r.out)
	}
	marlo := newBrowser(t)
	marlo.signIn(s, "marlo@fennick-quay.example")
	marlo.do("an administrator lets her in again", chromedp.Navigate(s.url+"/people"), shows("5 people"),
		shows("✕ kept out"), button("Let in"), shows("tamsin@fennick-quay.example"),
		until(`!document.body.innerText.includes("kept out")`))
	marlo.do("and gives a link", chromedp.Click(`//tr[contains(., "Tamsin")]//button[contains(., "Reset password")]`,
		chromedp.BySearch), shows("A link for Tamsin Oster"), shows("/set-up#"))
}

// TestAProgramIsToldByARunningService adds a hook to a service that runs, and looks at what
// arrives at a program inside.
func TestAProgramIsToldByARunningService(t *testing.T) {
	s, home := startDemo(t)
	signInAs(t, s, home, "marlo@fennick-quay.example")
	arrived := make(chan string, 16)
	program := httptest.NewServer(http.HandlerFunc(func(_ http.ResponseWriter, r *http.Request) {
		body, _ := io.ReadAll(r.Body)
		arrived <- r.URL.Path + " " + r.Header.Get("Content-Type") + " " + r.Header.Get("Webhook-Signature")[:3] + " " +
			string(body)
	}))
	defer program.Close()
	if r := run(t, home, nil, "hook", "add", "board", "http://board.example/told"); r.status == 0 ||
		!strings.Contains(r.err, "without TLS") {
		t.Errorf("exit %d\n%s", r.status, r.err)
	}
	added := decode[wire.AddedHook](t, run(t, home, nil, "hook", "add", "board", "http://board.example/told",
		"--address", program.URL, "--event", "moved", "--least", "critical", "--format", "json").out)
	if !strings.HasPrefix(added.Secret, "whsec_") {
		t.Fatalf("added %+v", added)
	}
	if r := run(t, home, nil, "finding", "change", "--filter", "kind=secret-value", "--to", "confirmed",
		"--yes"); r.status != 0 {
		t.Fatalf("exit %d\n%s", r.status, r.err)
	}
	for range 4 {
		select {
		case got := <-arrived:
			if !strings.HasPrefix(got, "/told application/cloudevents+json; charset=utf-8 v1, {") ||
				!strings.Contains(got, `"type":"inkret.finding.moved"`) ||
				!strings.Contains(got, `"became":"confirmed"`) || strings.Contains(got, "$2b$") {
				t.Errorf("told %s", got)
			}
		case <-time.After(patience):
			t.Fatal("nothing arrives")
		}
	}
	if r := run(t, home, nil, "hook", "test", "1"); r.status != 0 {
		t.Errorf("exit %d\n%s", r.status, r.err)
	}
	if got := <-arrived; !strings.Contains(got, `"type":"inkret.test"`) {
		t.Errorf("told %s", got)
	}
	b := newBrowser(t)
	b.signIn(s, "marlo@fennick-quay.example")
	b.do("the console lists what was told", chromedp.Navigate(s.url+"/settings"), shows("http://board.example/told"),
		chromedp.Click(`//section[@aria-label="Hooks"]//button[contains(., "What it was told")]`, chromedp.BySearch),
		shows("inkret.finding.moved"), shows("taken"))
	if r := run(t, home, nil, "hook", "deliveries", "1"); r.status != 0 || strings.Count(r.out, "taken") < 8 {
		t.Errorf("exit %d\n%s", r.status, r.out)
	}
	if r := run(t, home, nil, "hook", "drop", "1"); r.status != 0 {
		t.Errorf("exit %d\n%s", r.status, r.err)
	}
	if r := run(t, home, nil, "hook", "list"); !strings.Contains(r.err, "No hooks.") {
		t.Errorf("%s%s", r.out, r.err)
	}
}
