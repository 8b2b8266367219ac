package e2e

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/cdproto/page"
	"github.com/chromedp/chromedp"

	"inkret/api/wire"
)

// recordedNow records a release of the harbour as everybody, and gives the folder.
func recordedNow(t *testing.T, release string) string {
	t.Helper()
	dir := t.TempDir()
	start(t, "demo", "--release", release, "--listen", "127.0.0.1:0", "--harbour", "127.0.0.1:0", "--recorder",
		"127.0.0.1:0", "--mailbox", "127.0.0.1:0", "--provider", "127.0.0.1:0", "--recordings", dir).stop(t)
	return dir
}

// entriesOf writes those entries of a HAR whose address has a text to a file of their own.
func entriesOf(t *testing.T, har, text string) string {
	t.Helper()
	data, err := os.ReadFile(har)
	if err != nil {
		t.Fatal(err)
	}
	var all struct {
		Log struct {
			Version string           `json:"version"`
			Entries []map[string]any `json:"entries"`
		} `json:"log"`
	}
	if err := json.Unmarshal(data, &all); err != nil {
		t.Fatal(err)
	}
	kept := all.Log.Entries[:0]
	for _, e := range all.Log.Entries {
		if strings.Contains(fmt.Sprint(e["request"]), text) {
			kept = append(kept, e)
		}
	}
	if all.Log.Entries = kept; len(kept) == 0 {
		t.Fatalf("%s has no %s", har, text)
	}
	if data, err = json.Marshal(all); err != nil {
		t.Fatal(err)
	}
	path := filepath.Join(t.TempDir(), "some.har")
	if err := os.WriteFile(path, data, 0o600); err != nil {
		t.Fatal(err)
	}
	return path
}

// contractsIn moves the contracts of a folder of recordings into one of their own.
func contractsIn(t *testing.T, dir string) string {
	t.Helper()
	c := filepath.Join(dir, "c")
	if err := os.Mkdir(c, 0o755); err != nil {
		t.Fatal(err)
	}
	for _, name := range []string{"fennick-quay.yaml", "catalogue.yaml", "harbour.graphql", "harbour.sql"} {
		if err := os.Rename(filepath.Join(dir, name), filepath.Join(c, name)); err != nil {
			t.Fatal(err)
		}
	}
	return c
}

// TestFromLeakToProof plays the whole story with three roles in three browsers. An old leak was mended before
// release 1, whose leaks are assigned; one is waived for a day, one judged no leak. Release 2 proves its repairs,
// brings the old leak back and renames a member, and is compared with release 1. The auditor's report is printed.
func TestFromLeakToProof(t *testing.T) {
	spring := recordedNow(t, "2") // as it once was, too: with desk PINs
	s, _ := startDemo(t)
	home := t.TempDir()
	signIn(t, s, home)
	upload := func(files ...string) {
		t.Helper()
		if r := run(t, home, nil, append([]string{"capture", "upload", "--service", "fennick-quay"},
			files...)...); r.status > 1 {
			t.Fatalf("exit %d\n%s%s", r.status, r.out, r.err)
		}
	}
	find := func(query ...string) wire.FindingPage {
		t.Helper()
		return decode[wire.FindingPage](t,
			run(t, home, nil, append([]string{"finding", "list", "--format", "json", "--size", "500"},
				query...)...).out)
	}
	change := func(args ...string) {
		t.Helper()
		if r := run(t, home, nil, append([]string{"finding", "change", "--yes"}, args...)...); r.status != 0 {
			t.Fatalf("exit %d\n%s%s", r.status, r.out, r.err)
		}
	}
	upload(entriesOf(t, filepath.Join(spring, "harbour-office.har"), "/v1/staff"))
	pins := find("--search", "desk_pin").Items
	if len(pins) != 1 {
		t.Fatalf("the PINs are %+v", pins)
	}
	change(pins[0].ID, "--to", "awaiting-proof")
	first := recordedNow(t, "1")
	upload(filepath.Join(first, "harbour-office.har"))
	if now := find("--state", "closed"); now.Total != 1 || now.Items[0].ID != pins[0].ID {
		t.Fatalf("release 1, which has no PINs, closes %+v", now.Items)
	}

	noor, teodor, iva := newBrowser(t), newBrowser(t), newBrowser(t)
	noor.signIn(s, demoReviewer)
	teodor.signIn(s, demoLead)
	iva.signIn(s, demoViewer)
	day := time.Now().UTC().AddDate(0, 0, 1).Format(time.DateOnly)
	noor.do("one is waived for a day", chromedp.Navigate(s.url+"/findings?kind=cacheable-private"), shows("3 findings"),
		settled(), chromedp.Click(`(//td//a[text()="cacheable-private"])[1]`, chromedp.BySearch), shows("Who has it"),
		settled(), choose("to", "waived"),
		dated("until", day), chromedp.SendKeys(`//textarea[@id="comment"]`, "the cache is emptied tomorrow",
			chromedp.BySearch), button("Move to waived"), shows("new → waived until "+day),
		shows("approved by Noor Adeyar"))
	noor.do("one is no leak", chromedp.Navigate(s.url+"/findings?kind=selection-ignored"), shows("1 finding"),
		settled(), chromedp.Click(`//td//a[text()="selection-ignored"]`, chromedp.BySearch), shows("Who has it"),
		settled(), choose("to", "not a leak"),
		shows("So that it is not told again"), chromedp.SendKeys(`//textarea[@id="comment"]`,
			"fields that are asked for in vain harm nobody", chromedp.BySearch), button("Move to not a leak"),
		shows("new → not a leak"))
	noor.do("all else is handed out", chromedp.Navigate(s.url+"/findings?state=new"), shows("76 findings"),
		button("Change all 76…"), shows("Change all 76 findings"), choose("to", "in repair"),
		choose("person", "Teodor"), button("See what changes"), shows("76 findings of 76 change"),
		button("Change 76 findings"), shows("76 findings changed"))
	teodor.do("who has them says they are mended", chromedp.Navigate(s.url+"/findings?assigned=me"),
		shows("76 findings"), button("Change all 76…"), shows("Change all 76 findings"), choose("to", "awaiting proof"),
		button("See what changes"), shows("76 findings of 76 change"), button("Change 76 findings"),
		shows("76 findings changed"))
	iva.do("who looks on sees that nothing is closed by saying so", chromedp.Navigate(s.url+"/"),
		shows("76 findings await proof: capture the endpoints again"))

	second := recordedNow(t, "2")
	for _, who := range []string{"visitor", "skipper", "harbour-office"} {
		upload(filepath.Join(second, who+".har"))
	}
	count := func(state string) int { t.Helper(); return find("--state", state).Total }
	closed, waiting := count("closed"), count("awaiting-proof")
	if closed < 35 || closed+waiting != 76 || count("waived") != 1 {
		t.Errorf("release 2 leaves %d closed, %d waiting", closed, waiting)
	}
	still := decode[checked](t, run(t, home, nil, "check", "--contracts", contractsIn(t, second), "--format", "json",
		filepath.Join(second, "visitor.har"), filepath.Join(second, "skipper.har"),
		filepath.Join(second, "harbour-office.har")).out)
	leaks := map[string]bool{}
	for _, f := range still.Findings {
		leaks[f.Fingerprint] = true
	}
	for _, f := range find("--state", "awaiting-proof").Items {
		if !leaks[f.ID] {
			t.Errorf("not proven is %s %s %s", f.Kind, f.Endpoint, f.Path)
		}
	}
	inside := find("--state", "closed", "--search", "bookings[*].skipper.email").Items
	if len(inside) == 0 {
		t.Fatal("what was inside of what was removed is not proven")
	}
	if r := run(t, home, nil, "finding", "show", inside[0].ID); !strings.Contains(r.out,
		"what the leak was inside of was no longer there") {
		t.Errorf("what was inside says\n%s%s", r.out, r.err)
	}
	if back := find("--state", "returned"); back.Total != 1 || back.Items[0].ID != pins[0].ID {
		t.Errorf("returned are %+v", back.Items)
	}
	if renamed := find("--kind", "renamed-field"); renamed.Total < 6 ||
		!strings.Contains(renamed.Items[0].Why, "price") {
		t.Errorf("renamed are %+v", renamed.Items)
	}
	teodor.do("the lead sees what came back, with what was before", chromedp.Navigate(s.url+"/"),
		shows("1 finding came back after being closed or waived"), settled(),
		chromedp.Click(`//a[contains(., "came back")]`, chromedp.BySearch), address("state=returned"),
		shows("1 finding"), settled(),
		chromedp.Click(`//td//a[text()="sensitive-field"]`, chromedp.BySearch), shows("closed → returned"),
		shows("proven by capture"))
	iva.do("and what was saved", chromedp.Navigate(s.url+"/standing"), shows("Proven"),
		shows("bytes that no grant covers"), shows("GET /v1/berths"))

	captures := decode[wire.CapturePage](t, run(t, home, nil, "capture", "list", "--format", "json", "--size", "500",
		"--search", "/v1/berths?", "--audience", "visitor").out).Items
	if len(captures) < 2 {
		captures = decode[wire.CapturePage](t, run(t, home, nil, "capture", "list", "--format", "json", "--size",
			"500", "--audience", "visitor").out).Items
	}
	var lists []int64 // newest first
	for _, c := range captures {
		if c.Endpoint == "GET /v1/berths" {
			lists = append(lists, c.ID)
		}
	}
	if len(lists) < 2 {
		t.Fatalf("captures of the list of berths: %v", lists)
	}
	if r := run(t, home, nil, "capture", "compare", fmt.Sprint(lists[len(lists)-1]),
		fmt.Sprint(lists[0])); r.status != 0 || !strings.Contains(r.out, "− gone") ||
		!strings.Contains(r.out, "berth_price") || !strings.Contains(r.out, "kB") {
		t.Errorf("compared: exit %d\n%s%s", r.status, r.out, r.err)
	}
	noor.do("before and after, side by side", chromedp.Navigate(fmt.Sprintf("%s/captures/compare?before=%d&after=%d",
		s.url, lists[len(lists)-1], lists[0])), shows("no more"), shows("berth_price"))

	audit := filepath.Join(t.TempDir(), "risk.html")
	if r := run(t, home, nil, "finding", "report", "--state", "any", "--format", "html", "-o", audit); r.status != 0 {
		t.Fatalf("exit %d\n%s%s", r.status, r.out, r.err)
	}
	var pdf []byte
	iva.do("the report is printed", chromedp.Navigate("file://"+audit), shows("How it stands"),
		shows("Waivers in force"), shows(day), shows("the cache is emptied tomorrow"),
		shows("From being found to proof"), shows("Coverage"),
		chromedp.ActionFunc(func(ctx context.Context) (err error) {
			pdf, _, err = page.PrintToPDF().Do(ctx)
			return err
		}))
	if pages := bytes.Count(pdf, []byte("/Type /Page\n")); !bytes.HasPrefix(pdf, []byte("%PDF-")) || pages < 3 ||
		pages > 20 {
		t.Errorf("the PDF has %d bytes and %d pages", len(pdf), pages)
	}
	quiet(noor, teodor, iva)
}
