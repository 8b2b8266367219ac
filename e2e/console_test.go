package e2e

import (
	"context"
	"encoding/json"
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"

	"github.com/chromedp/cdproto/network"
	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"
)

// address waits until the page's address has a text in it.
func address(text string) chromedp.Action {
	return until(`location.href.includes(` + quote(text) + `)`)
}

// selected returns an input the focus and selects all of its text, for typing over it.
func selected(input string) chromedp.Action {
	return chromedp.Evaluate(`{ const e = document.querySelector(`+quote(input)+`); e.focus(); e.select(); }`, nil)
}

// TestReviewingInTheConsole goes the way of a new user: sign in, find the
// leaked hash, see where in the body it sits, move the finding.
func TestReviewingInTheConsole(t *testing.T) {
	s, _ := startDemo(t)
	b := newBrowser(t)
	b.do("a deep link asks to sign in first", chromedp.Navigate(s.url+"/findings?severity=critical"),
		shows("E-mail address"), address("/sign-in?next="))
	b.do("a wrong password is told", chromedp.SendKeys(`input[autocomplete="username"]`, demoReviewer),
		chromedp.SendKeys(`input[autocomplete="current-password"]`, "wrong"+kb.Enter),
		shows("e-mail address or password is wrong"))
	b.do("and then the right one leads where one wanted to go", selected(`input[autocomplete="current-password"]`),
		chromedp.KeyEvent(demoPassword+kb.Enter), address("/findings?severity=critical"), shows("7 findings"))
	b.do("search narrows the list and stands in the address", chromedp.SendKeys(`input[aria-label^="Search"]`,
		"POST skippers"), address("q=POST"), shows("1 finding"))
	b.do("a link leads to the finding", chromedp.Click(`//td//a[text()="secret-value"]`, chromedp.BySearch),
		shows("How it is usually mended"), shows("Skipper.password_hash"))
	var row string
	b.do("the wire view has the place", chromedp.WaitVisible(`.wire-row.chosen`),
		chromedp.AttributeValue(`.wire-row.chosen`, "aria-label", &row, nil))
	if !strings.Contains(row, "password_hash, sensitive, $2b$•••, critical secret-value") {
		t.Errorf("the row says %q", row)
	}
	b.do("a state that needs a reason asks for it", choose("to", "not a leak"), shows("Ask to take it for no leak"),
		chromedp.Click(`//button[contains(., "Ask to take it for no leak")]`, chromedp.BySearch),
		shows("Say why, for whoever reads it later"))
	b.do("the finding is moved", choose("to", "in repair"),
		shows("Move to in repair"), settled(), chromedp.SendKeys(`#comment`, "taken by accounts <b>now</b>"),
		until(`document.querySelector("#comment").value.endsWith("</b>")`),
		chromedp.Click(`//button[contains(., "Move to in repair")]`, chromedp.BySearch),
		shows("taken by accounts <b>now</b>"), shows("new → in repair"))
	b.do("and still is after a reload", chromedp.Reload(), shows("new → in repair"),
		shows("taken by accounts <b>now</b>"))
	b.do("it left what is to be judged", chromedp.Navigate(s.url+"/findings?state=new&severity=critical"),
		shows("6 findings"),
		chromedp.Navigate(s.url+"/findings?state=in-repair"), shows("1 finding"))
	if said := b.said(); len(said) > 0 {
		t.Errorf("the browser complains: %q", said)
	}
}

func TestFiltersSortingAndPagesLiveInTheAddress(t *testing.T) {
	s, _ := startDemo(t)
	b := newBrowser(t)
	b.signIn(s, demoReviewer)
	b.do("a page of the list", chromedp.Navigate(s.url+"/findings?size=20&page=4&sort=path"), shows("78 findings"),
		until(`document.querySelectorAll("tbody tr.ant-table-row").length === 18`))
	b.do("sorting goes back to its first page", chromedp.Click(`//th[.//span[text()="Spots"]]`, chromedp.BySearch),
		address("sort=spots"), until(`!location.href.includes("page=") && document.querySelectorAll("tbody tr.ant-table-row").length === 20`))
	b.do("a filter from the home page", chromedp.Navigate(s.url+"/"), chromedp.Click(`//a[contains(., "medium")]`,
		chromedp.BySearch), address("severity=medium"), shows("20 findings"))
	b.do("nothing fits", chromedp.Navigate(s.url+"/findings?q=zebra"), shows("No finding fits these filters"),
		chromedp.Click(`//button[contains(., "Take all filters away")]`, chromedp.BySearch), shows("78 findings"))
	b.do("what is not there", chromedp.Navigate(s.url+"/findings/0123456789abcdef"),
		shows("there is no finding 0123456789abcdef"), chromedp.Navigate(s.url+"/nowhere"),
		shows("There is no such page"))
	b.do("an endpoint by name", chromedp.Navigate(s.url+"/endpoints?known=false"), shows("GET /v1/boats/{}"),
		shows("no contract"), chromedp.Click(`//a[text()="GET /v1/boats/{}"]`, chromedp.BySearch),
		shows("No contract for this endpoint"), shows("only swept"))
}

func TestUploadingInTheConsole(t *testing.T) {
	s, dir := startDemo(t)
	b := newBrowser(t)
	b.signIn(s, demoReviewer)
	data, err := os.ReadFile(filepath.Join(dir, "visitor.har"))
	if err != nil {
		t.Fatal(err)
	}
	fresh := filepath.Join(t.TempDir(), "new-pier.har")
	if err := os.WriteFile(fresh, []byte(strings.ReplaceAll(string(data), "/v1/berths", "/v1/piers")),
		0o644); err != nil {
		t.Fatal(err)
	}
	bad := filepath.Join(t.TempDir(), "page.har")
	if err := os.WriteFile(bad, []byte("<html>"), 0o644); err != nil {
		t.Fatal(err)
	}
	choose := func(file string) chromedp.Action {
		return chromedp.SetUploadFiles(`.recording-upload input[type="file"]`, []string{file}, chromedp.ByQuery)
	}
	b.do("a recording is sent and judged", chromedp.Navigate(s.url+"/captures"), shows("Drop recordings here"),
		choose(fresh), shows("new-pier.har: 13 captures, 13 judged, 0 skipped"))
	b.do("the same again changes nothing", chromedp.Reload(), shows("Drop recordings here"), choose(fresh),
		shows("was taken in before; nothing changed"))
	b.do("what is no recording is told", choose(bad), shows("page.har was not taken in"),
		shows("this is no recording that is read here"))
	b.do("the result leads to its findings", chromedp.Click(`//button[contains(., "See its findings")]`,
		chromedp.BySearch), address("batch=4"), shows("GET /v1/piers"))
	if said := b.said(); len(said) > 0 && !strings.Contains(strings.Join(said, " "), "415") {
		t.Errorf("the browser complains: %q", said)
	}
}

// TestAViewerLooksOnly shows that who may not decide is not offered to.
func TestAViewerLooksOnly(t *testing.T) {
	s, _ := startDemo(t)
	b := newBrowser(t)
	b.signIn(s, "iva@fennick-quay.example")
	b.do("no upload", chromedp.Navigate(s.url+"/captures"), shows("visitor.har"))
	var offered bool
	b.do("is it offered", chromedp.Evaluate(`document.body.innerText.includes("Drop recordings")`, &offered))
	if offered {
		t.Error("a viewer is offered to upload")
	}
	b.do("a comment is possible, a move is not", chromedp.Navigate(s.url+"/findings"),
		chromedp.Click(`//td//a[text()="secret-value"]`, chromedp.BySearch), shows("Decide"),
		chromedp.WaitNotPresent(`#to`),
		chromedp.SendKeys(`#comment`, "I see it too"), chromedp.Click(`//button[contains(., "Comment")]`,
			chromedp.BySearch), shows("Iva Salk said"))
	b.do("signing out ends it", chromedp.Click(`button[aria-label="Sign out"]`), shows("E-mail address"),
		chromedp.Navigate(s.url+"/findings"), address("/sign-in"))
}

func TestTheWireViewByKeyboard(t *testing.T) {
	s, _ := startDemo(t)
	b := newBrowser(t)
	b.signIn(s, demoReviewer)
	focused := func() string {
		var label string
		b.do("which row has the focus",
			chromedp.Evaluate(`document.activeElement.getAttribute("aria-label") ?? document.activeElement.tagName`,
				&label))
		return label
	}
	b.do("an endpoint", chromedp.Navigate(s.url+"/endpoints?q=bookings/{booking_id}"),
		chromedp.Click(`//a[text()="GET /v1/bookings/{booking_id}"]`, chromedp.BySearch),
		chromedp.WaitVisible(`.wire-row`), chromedp.Focus(`.wire-row[tabindex="0"]`))
	press := func(key string, want string) {
		t.Helper()
		before := len(want)
		b.do("press "+key, chromedp.KeyEvent(key))
		b.do("the focus goes to "+want, until(`(document.activeElement.getAttribute("aria-label") ?? "").startsWith(`+
			quote(want)+`)`))
		if got := focused(); !strings.HasPrefix(got, want) || before == 0 {
			t.Errorf("after %q the focus is on %q, want %q", key, got, want)
		}
	}
	press(kb.ArrowDown, "data, granted")
	press(kb.ArrowDown, "arrives_on, granted, 2026-")
	press(kb.ArrowUp, "data, granted")
	press(kb.ArrowLeft, "data, granted") // closes it
	press(kb.ArrowDown, "links, granted")
	press(kb.ArrowUp, "data, granted")
	press(kb.ArrowRight, "data, granted") // opens it
	press("n", "born_on, sensitive")
	press("n", "email, sensitive")
	press(kb.Home, "body, granted")
	press("n", "born_on, sensitive, •••, high sensitive-field: not granted; Skipper.born_on is personal")
	b.do("enter leads to the finding", chromedp.KeyEvent(kb.Enter), address("/findings/"), shows("Skipper.born_on"))
}

// TestHostileTextIsNeverMarkup sends a recording whose every text is an attack.
func TestHostileTextIsNeverMarkup(t *testing.T) {
	s, _ := startDemo(t)
	b := newBrowser(t)
	b.signIn(s, demoReviewer)
	const attack = `<img src=x onerror=window.hit=1><script>window.hit=1</script>`
	body, _ := json.Marshal(map[string]any{attack: attack, "token": attack, "data": map[string]any{"id": attack}})
	har, _ := json.Marshal(map[string]any{"log": map[string]any{"version": "1.2", "entries": []any{map[string]any{
		"request": map[string]any{"method": "GET",
			"url":     "http://api.fennick-quay.example/v1/%3Cscript%3Ewindow.hit=1%3C%2Fscript%3E?a=" + "%3Cimg%3E",
			"headers": []any{map[string]any{"name": "X-" + attack, "value": attack}}},
		"response": map[string]any{"status": 200, "headers": []any{},
			"content": map[string]any{"mimeType": "application/json", "text": string(body)}},
	}}}})
	file := filepath.Join(t.TempDir(), attack[:4]+"onerror=1>.har")
	if err := os.WriteFile(file, har, 0o644); err != nil {
		t.Fatal(err)
	}
	b.do("upload it", chromedp.Navigate(s.url+"/captures"), shows("Drop recordings"),
		chromedp.SetUploadFiles(`.recording-upload input[type="file"]`, []string{file}, chromedp.ByQuery),
		shows("1 capture, 1 judged"))
	for _, page := range []string{"/", "/findings?batch=4&state=any", "/captures", "/captures?batch=4",
		"/endpoints?known=false", "/captures/39"} {
		var hit, image bool
		b.do("look at "+page, chromedp.Navigate(s.url+page), settled(), chromedp.Evaluate(`window.hit === 1`, &hit),
			chromedp.Evaluate(`document.querySelector('img[src="x"]') !== null`, &image))
		if hit || image {
			t.Errorf("%s ran or built it: ran %v, built %v", page, hit, image)
		}
	}
	b.do("it is shown as text", shows("<img src=x onerror"))
}

// TestCheckOfAHARFromChromium records the demo console's own traffic with
// Chromium, writes it as HAR, and checks that.
func TestCheckOfAHARFromChromium(t *testing.T) {
	s, _ := startDemo(t)
	b := newBrowser(t)
	var mu sync.Mutex // guards the three
	requests, responses, order := map[network.RequestID]*network.Request{}, map[network.RequestID]*network.Response{},
		[]network.RequestID{}
	chromedp.ListenTarget(b.ctx, func(event any) {
		mu.Lock()
		defer mu.Unlock()
		switch e := event.(type) {
		case *network.EventRequestWillBeSent:
			requests[e.RequestID] = e.Request
			order = append(order, e.RequestID)
		case *network.EventResponseReceived:
			responses[e.RequestID] = e.Response
		}
	})
	b.do("record", network.Enable())
	b.signIn(s, demoReviewer)
	b.do("look around", chromedp.Click(`//nav//a[text()="Findings"]`, chromedp.BySearch), shows("78 findings"))
	mu.Lock() // the browser waits for the listener: it must not be held while asking for bodies
	sent, came, inOrder := maps.Clone(requests), maps.Clone(responses), slices.Clone(order)
	mu.Unlock()
	headers := func(h network.Headers) []any {
		all := []any{}
		for name, value := range h {
			all = append(all, map[string]any{"name": name, "value": value})
		}
		return all
	}
	var entries []any
	for _, id := range inOrder {
		response := came[id]
		if response == nil {
			continue
		}
		content := map[string]any{"size": int(response.EncodedDataLength), "mimeType": response.MimeType}
		b.do("fetch a body", chromedp.ActionFunc(func(ctx context.Context) error {
			if body, err := network.GetResponseBody(id).Do(ctx); err == nil {
				content["text"] = string(body)
			}
			return nil
		}))
		entries = append(entries, map[string]any{"startedDateTime": "2026-05-01T10:00:00Z", "time": 1,
			"request": map[string]any{"method": sent[id].Method, "url": sent[id].URL,
				"headers": headers(sent[id].Headers)},
			"response": map[string]any{"status": response.Status, "headers": headers(response.Headers),
				"content": content}})
	}
	har, err := json.Marshal(map[string]any{"log": map[string]any{"version": "1.2",
		"creator": map[string]any{"name": "Chromium", "version": "1"}, "entries": entries}})
	if err != nil {
		t.Fatal(err)
	}
	file := filepath.Join(t.TempDir(), "console.har")
	if err := os.WriteFile(file, har, 0o644); err != nil {
		t.Fatal(err)
	}
	r := run(t, t.TempDir(), nil, "check", "--format", "json", file)
	got := decode[checked](t, r.out)
	if got.Summary.Judged < 3 || got.Summary.Skipped < 3 {
		t.Errorf("%d judged and %d skipped of %d entries\n%s", got.Summary.Judged, got.Summary.Skipped, len(entries),
			r.err)
	}
	signedIn := false
	for _, f := range got.Findings {
		signedIn = signedIn || f.Endpoint == "POST /api/v1/session" && f.Path == "$.email"
		if f.Kind == "secret-value" {
			t.Errorf("the console's own traffic holds a secret: %s %s", f.Endpoint, f.Path)
		}
	}
	if !signedIn || r.status != 1 {
		t.Errorf("exit %d; one's own e-mail address in the answer to signing in is not found:\n%s", r.status, r.out)
	}
}

// TestTheConsoleLoadsLittle measures what a browser with an empty cache loads until somebody sees the findings,
// before charts and editor.
func TestTheConsoleLoadsLittle(t *testing.T) {
	s, _ := startDemo(t)
	b := newBrowser(t)
	var mu sync.Mutex // guards what follows
	loaded, names, sizes := 0, map[network.RequestID]string{}, ""
	chromedp.ListenTarget(b.ctx, func(event any) {
		mu.Lock()
		defer mu.Unlock()
		switch e := event.(type) {
		case *network.EventRequestWillBeSent:
			names[e.RequestID] = e.Request.URL
		case *network.EventLoadingFinished:
			loaded += int(e.EncodedDataLength)
			sizes += fmt.Sprintf("%7.0f %s\n", e.EncodedDataLength, names[e.RequestID])
		}
	})
	b.do("what is loaded is counted", network.Enable())
	b.signIn(s, demoReviewer)
	b.do("to the findings", chromedp.Navigate(s.url+"/findings"), shows("78 findings"), shows("secret-value"))
	mu.Lock()
	defer mu.Unlock()
	const most = 500_000
	if loaded == 0 || loaded > most {
		t.Errorf("%d bytes are loaded:\n%s", loaded, sizes)
	}
}
