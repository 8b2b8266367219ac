package e2e

import (
	"fmt"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"
)

// TestWatchingAnApplicationLeak goes the way of somebody who clicks through a page
// behind the recorder and watches: calls appear, what is baked into the page is
// found, and the call is made again as somebody else.
func TestWatchingAnApplicationLeak(t *testing.T) {
	s, _ := startDemo(t)
	recorded := s.address(t, "recorded")
	b := newBrowser(t)
	b.signIn(s, demoReviewer)
	b.do("nobody calls yet", chromedp.Navigate(s.url+"/live"), shows("watching"), shows("No call yet"),
		shows("inkret record --upstream"))
	page := newBrowser(t) // a tab of the same browser would hide the other, which then draws nothing
	page.do("the page behind the recorder works", chromedp.Navigate(recorded+"/"), shows("Fennick Quay"),
		press("Berths"), shows("A01"))
	b.do("its calls are there, with what they carry", shows("/v1/berths"),
		until(`document.querySelector(".live-row.chosen")?.innerText.includes("/v1/berths")`), shows("password_hash"),
		shows("the demo's recorder"))
	page.do("somebody who signed in sees bookings", chromedp.Click(`input[value="skipper"]`), press("Bookings"),
		shows("FQ-"))
	b.do("as that audience",
		until(`[...document.querySelectorAll(".live-row")].some((r) => r.innerText.includes("/v1/bookings") && r.innerText.includes("skipper"))`))
	page.do("the page with its data baked in", chromedp.Navigate(recorded+"/arrivals"), shows("Arrivals"))
	b.do("what is baked in is found", shows("/arrivals"), shows(">> script#state"),
		until(`[...document.querySelectorAll(".wire-row")].some((r) => r.getAttribute("aria-label").startsWith("email, sensitive"))`))
	b.do("only leaks are listed, and the address says so", chromedp.Click(`//label[contains(., "only with findings")]`,
		chromedp.BySearch), address("show=leaking"),
		until(`[...document.querySelectorAll(".live-row")].every((r) => !r.innerText.includes("✓"))`))
	b.do("another call is chosen by keyboard", chromedp.Evaluate(`document.querySelector(".live-row.chosen").focus()`,
		nil), chromedp.KeyEvent(kb.ArrowDown), address("capture="),
		until(`document.activeElement.classList.contains("chosen")`))
	b.do("it has a page of its own",
		chromedp.Click(`//section[@aria-label="On the wire"]//a[starts-with(., "capture ")]`, chromedp.BySearch),
		shows("Make the call again…"), shows("Recorded"))
	b.do("the arrivals again, as a skipper", chromedp.Navigate(s.url+"/captures?words=arrivals&batch=4"),
		chromedp.Click(`//td//a[contains(., "/arrivals")]`, chromedp.BySearch), shows("Make the call again…"),
		press("Make the call again…"),
		chromedp.WaitVisible(`input[aria-label="As which audience"]`),
		chromedp.SendKeys(`input[aria-label="As which audience"]`, "skipper"+kb.Enter), shows("--audience skipper"),
		confirm("Make the call"), shows("1 call made again"), shows("skipper, said"), shows("Made again"))
	b.do("the one before leads to it", chromedp.Click(`//a[starts-with(., "what capture")]`, chromedp.BySearch),
		shows("as skipper"), shows("as many"))
	b.do("a recording is ended from its page, and the recorder begins another",
		chromedp.Navigate(s.url+"/captures?batch=4"), shows("still recording"), press("End the recording"),
		pressIn(".ant-popconfirm-buttons ", "End it"), shows("Correct the audience…"))
	page.do("it goes on", chromedp.Navigate(recorded+"/arrivals"), shows("Arrivals"))
	b.do("in a batch of its own", chromedp.Navigate(s.url+"/captures"),
		until(`document.body.innerText.split("the demo's recorder").length === 3`))
	if said := append(b.said(), page.said()...); len(said) > 0 {
		t.Errorf("the browser complains: %q", said)
	}
}

// TestTheLiveViewKeepsUp makes 200 calls a second for some seconds, and checks that each is counted, that the list
// stays bounded, and that the page still answers.
func TestTheLiveViewKeepsUp(t *testing.T) {
	const rate, seconds = 200, 4
	s, _ := startDemo(t)
	recorded := s.address(t, "recorded")
	b := newBrowser(t)
	b.signIn(s, demoReviewer)
	b.do("watch", chromedp.Navigate(s.url+"/live"), shows("watching"),
		chromedp.Evaluate(`window.long = []; new PerformanceObserver((l) => window.long.push(...l.getEntries().map((e) => Math.round(e.duration)))).observe({ entryTypes: ["longtask"] })`, nil))
	var calls sync.WaitGroup
	client := &http.Client{Transport: &http.Transport{MaxIdleConnsPerHost: 32}}
	tick := time.NewTicker(time.Second / rate)
	defer tick.Stop()
	begun := time.Now()
	for i := range rate * seconds {
		<-tick.C
		calls.Go(func() {
			response, err := client.Get(fmt.Sprintf("%s/v1/berths/%d", recorded, 101+i%24))
			if err != nil {
				t.Error(err)
				return
			}
			response.Body.Close()
		})
	}
	calls.Wait()
	took := time.Since(begun)
	b.do("all are counted", shows(fmt.Sprintf("%d calls", rate*seconds)),
		until(`document.querySelectorAll(".live-row").length === 500`))
	b.do("the page answers", press("Pause"), shows("Go on"), press("Clear"), shows("No call yet"))
	var long []int
	b.do("how long it was busy at most", chromedp.Evaluate(`window.long`, &long))
	t.Logf("%d calls in %v; tasks over 50 ms: %v", rate*seconds, took, long)
	var missed bool
	b.do("none was left out", chromedp.Evaluate(`document.body.innerText.includes("came faster")`, &missed))
	if missed {
		t.Error("calls came faster than they could be shown")
	}
}

func TestBatchesInTheConsole(t *testing.T) {
	s, _ := startDemo(t)
	alone(t, s)
	b := newBrowser(t)
	b.signIn(s, demoReviewer)
	rows := func(n int) chromedp.Action {
		return until(fmt.Sprintf(`document.querySelectorAll("tbody tr.ant-table-row").length === %d`, n))
	}
	b.do("captures by filters of the address",
		chromedp.Navigate(s.url+"/captures?show=leaking&audience=visitor&status=2XX&sort=bytes"), shows("9 captures"),
		rows(9), chromedp.Navigate(s.url+"/captures?words=boats&show=clean"), shows("No capture fits these filters"),
		press("Take all filters away"), shows("38 captures"))
	b.do("a batch, corrected", chromedp.Navigate(s.url+"/captures?batch=1"), shows("13: 13 judged, 0 skipped"),
		press("Correct the audience…"), chromedp.WaitVisible(`input[aria-label="Audience of the batch"]`),
		chromedp.SendKeys(`input[aria-label="Audience of the batch"]`, "harbour"+kb.Enter),
		shows("inkret capture audience 1 harbour-office"), confirm("Judge the batch anew"), shows("Judged anew"),
		shows("harbour-office, said"))
	b.do("withdrawn, with its effect shown first", press("Withdraw…"), shows("Its 13 captures go"),
		shows("findings go"), shows("POST /v1/skippers"), chromedp.WaitVisible(`.ant-modal input`),
		chromedp.SendKeys(`.ant-modal input`, "recorded by mistake"),
		confirm("Withdraw the batch"), shows("Batch 1 is withdrawn"), until(`location.pathname === "/captures"`),
		rows(2))
	b.do("the trail has both, and is whole", chromedp.Navigate(s.url+"/trail"), shows("withdraw batch"),
		shows("recorded by mistake"), shows("judged anew as harbour-office"), press("Verify the trail"),
		shows("The trail is whole"),
		chromedp.Click(`//td//a[text()="withdraw batch"]`, chromedp.BySearch), address("action=withdraw"),
		shows("1 entry"))
	b.do("a batch's calls again", chromedp.Navigate(s.url+"/captures?batch=3"), press("Make its calls again…"),
		shows("inkret capture repeat --batch 3"), confirm("Make the calls"), shows("11 calls made again"),
		shows("calls made again"), rows(11))
	b.do("a value is revealed", chromedp.Navigate(s.url+"/captures/14?at=/data/0/bookings/0/skipper/email"),
		chromedp.WaitVisible(`.wire-row.chosen`), shows("Reveal the value…"), press("Reveal the value…"),
		chromedp.WaitVisible(`.ant-modal input`),
		chromedp.SendKeys(`.ant-modal input`, "telling whom it concerns"), confirm("Reveal it"),
		shows("@sails.example"), shows("is on the trail"))
	b.do("what weighs", chromedp.Navigate(s.url+"/captures/14?tab=weight"), shows("no grant covers it"),
		shows("Most of what nobody needs"), chromedp.Click(`button[aria-label^="$.data[*].bookings: "]`),
		address("at=%2Fdata%2F0%2Fbookings"), chromedp.WaitVisible(`.wire-row.chosen`))
	b.do("which grants cover what", chromedp.Navigate(s.url+"/captures/14?tab=grants"), shows("$.data[*].label"),
		shows("$.meta.count"))
	if said := b.said(); len(said) > 0 {
		t.Errorf("the browser complains: %q", said)
	}
}

func TestSettingsInTheConsole(t *testing.T) {
	s, _ := startDemo(t)
	b := newBrowser(t)
	b.signIn(s, "marlo@fennick-quay.example")
	b.do("servers", chromedp.Navigate(s.url+"/settings"), shows("✓ allowed"), press("Forbid"),
		pressIn(".ant-popconfirm-buttons ", "Forbid"), shows("− not allowed"), press("Allow…"),
		chromedp.WaitVisible(`.ant-modal input`),
		chromedp.SendKeys(`.ant-modal input`, "nonsense"), confirm("Allow"), shows("is not where a server is reached"))
	b.do("credentials, which are never shown", chromedp.Navigate(s.url+"/settings"), shows("Cookie: •••, X-Desk: •••"),
		press("Set…"), chromedp.WaitVisible(`.ant-modal input[type="password"]`),
		chromedp.SendKeys(`.ant-modal input[type="password"]`, "Bearer made-up-secret"), confirm("Keep them"),
		shows("Kept, encrypted"),
		until(`[...document.querySelectorAll("tr")].some((r) => r.innerText.includes("visitor") && r.innerText.includes("Authorization: •••"))`))
	var leaks bool
	b.do("is it shown", chromedp.Evaluate(`document.body.innerText.includes("made-up-secret")`, &leaks))
	if leaks {
		t.Error("a credential is shown again")
	}
	b.do("bodies are kept for a while", chromedp.Click(`//label[contains(., "then bodies and masked samples")]`,
		chromedp.BySearch), shows("inkret service keeping --days 90"), press("Set"), pressIn(".ant-popconfirm-buttons ",
		"Set it"),
		chromedp.Reload(), shows("Settings of fennick-quay"),
		until(`document.querySelector('input[type="radio"][value="days"]')?.checked`))
	viewer := newBrowser(t)
	viewer.signIn(s, "iva@fennick-quay.example")
	viewer.do("a viewer sees it and changes nothing", chromedp.Navigate(s.url+"/settings"),
		shows("An administrator allows them."), shows("A lead sets them."), shows("An administrator sets it."),
		until(`![...document.querySelectorAll("button")].some((x) => /Forbid|Set…|Replace…/.test(x.innerText))`))
}

// TestWhatOtherProgramsRecord sends a WARC that wget writes and what a client prints
// of an answer, into the service.
func TestWhatOtherProgramsRecord(t *testing.T) {
	if _, err := exec.LookPath("wget"); err != nil {
		t.Fatal("wget is needed; make test installs it")
	}
	s, _ := startDemo(t)
	harbour := s.address(t, "its API")
	home := as(t, s, "noor")
	dir := t.TempDir()
	fetch := exec.Command("wget", "-q", "--warc-file="+filepath.Join(dir, "monday"), "-e", "use_proxy=yes", "-e",
		"http_proxy="+harbour, "-O", "/dev/null", "http://api.fennick-quay.example/v1/berths",
		"http://api.fennick-quay.example/arrivals")
	if out, err := fetch.CombinedOutput(); err != nil {
		t.Fatalf("wget: %v\n%s", err, out)
	}
	bare := filepath.Join(dir, "berths.json")
	if err := os.WriteFile(bare, []byte(call(t, harbour+"/v1/berths")), 0o644); err != nil {
		t.Fatal(err)
	}
	printed := "HTTP/1.1 200 OK\r\nContent-Type: application/json\r\n\r\n" + call(t, harbour+"/v1/notices")
	answer := filepath.Join(dir, "notices.txt")
	if err := os.WriteFile(answer, []byte(printed), 0o644); err != nil {
		t.Fatal(err)
	}
	walk(t, []step{
		{home, "capture upload " + filepath.Join(dir, "monday.warc.gz"), 0, "2 captures", ""},
		{home, "capture list --batch 4 --search arrivals --leaking", 0, "1 capture", ""},
		{home, "capture upload " + answer, 0, "skipped 1: ", ""},
		{home, "capture upload --request \"GET https://api.fennick-quay.example/v1/notices\" --audience skipper " +
			answer, 0, "1 capture (1 judged, 0 skipped), 1 finding", ""},
		{home, "capture upload " + bare, 2, "", ""},
		{home, "capture upload --request \"GET https://api.fennick-quay.example/v1/berths\" " + bare, 0,
			"1 capture (1 judged, 0 skipped), 12 findings, 0 of them new", ""},
		{home, "capture upload --request nonsense " + answer, 2, "is no request", ""},
		{home, "capture upload " + dir, 0, "monday.warc.gz: taken in before, as batch 4", ""},
	})
	list := run(t, home, nil, "capture", "list", "--batch", "4")
	if !strings.Contains(list.out, "http://api.fennick-quay.example/v1/berths") {
		t.Errorf("the WARC became\n%s", list.out)
	}
}
