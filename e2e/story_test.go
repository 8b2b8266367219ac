package e2e

import (
	"fmt"
	"strings"
	"testing"

	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"

	"inkret/api/wire"
)

// TestWhoseBookingItIs plays the harbour's story in browsers: one skipper's token reads another's booking, and
// a finding says so; the matrix shows two skippers side by side; release 2 and a watch close it without
// anybody's help, since the call is denied now, and so is what reached the wrong audience by it; release 1
// brings both back at the next run.
func TestWhoseBookingItIs(t *testing.T) {
	s, _ := startDemo(t)
	second := start(t, "demo", "--release", "2", "--listen", "127.0.0.1:0", "--harbour", "127.0.0.1:0", "--recorder",
		"127.0.0.1:0", "--mailbox", "127.0.0.1:0", "--provider", "127.0.0.1:0")
	home, marlo := t.TempDir(), t.TempDir()
	signIn(t, s, home)
	if r := run(t, marlo, strings.NewReader(demoPassword+"\n"), "sign-in", s.url, "--email",
		"marlo@fennick-quay.example",
		"--password-stdin"); r.status != 0 {
		t.Fatalf("exit %d %s", r.status, r.err)
	}
	must := func(home string, args ...string) string {
		t.Helper()
		r := run(t, home, nil, args...)
		if r.status > 1 {
			t.Fatalf("inkret %s: exit %d\n%s%s", strings.Join(args, " "), r.status, r.out, r.err)
		}
		return r.out
	}
	release := func(of *server) {
		t.Helper()
		must(marlo, "service", "allow", "http://api.fennick-quay.example", "--address", of.address(t, "its API"))
	}
	found := decode[wire.FindingPage](t, must(home, "finding", "list", "--kind", "foreign-record", "--search",
		"booking_id", "--format", "json")).Items
	note := decode[wire.FindingPage](t, must(home, "finding", "list", "--kind", "wrong-audience", "--search",
		"data.note", "--format", "json")).Items
	if len(found) != 1 || len(note) != 1 {
		t.Fatalf("somebody else's bookings are %+v, notes %+v", found, note)
	}
	state := func(f wire.Finding) string {
		return string(decode[wire.FindingDetail](t, must(home, "finding", "show", f.ID, "--format",
			"json")).Finding.State)
	}

	noor := newBrowser(t)
	noor.signIn(s, demoReviewer)
	noor.do("one token reads another's booking", chromedp.Navigate(s.url+"/findings/"+found[0].ID),
		shows("somebody else's than the caller's"), shows("another person's"), settled(),
		chromedp.Click(`//section[@aria-label="Evidence"]//a`, chromedp.BySearch), shows("As every audience…"))
	noor.do("what will be sent is said first", button("As every audience…"), shows("Nothing was sent yet"),
		shows("skipper (vesna)"), shows("no credentials"), button("Make 4 calls"))
	noor.do("two skippers side by side", until(`(() => {
		const row = [...document.querySelectorAll(".matrix tr")].find((r) => r.cells[0]?.innerText.trim() === "$.data.ref");
		return row && row.cells[2].innerText === "401" && row.cells[3].innerText.includes("another person's") &&
			row.cells[4].innerText.includes("✓ granted") && row.cells[5].innerText.includes("✓ granted");
	})()`))
	must(home, "finding", "change", found[0].ID, note[0].ID, "--to", "awaiting-proof", "--yes")
	release(second)
	noor.do("a watch is made of that one call", chromedp.Navigate(s.url+"/watches"), shows("Nothing is watched yet"),
		press("New watch…"), shows("7008"),
		until(`(() => { const all = document.querySelector('[aria-label="All of them"]'); if (all.checked) all.click(); return !all.checked; })()`),
		until(`(() => {
			const one = document.querySelector('[aria-label="GET http://api.fennick-quay.example/v1/bookings/7008 as skipper"]');
			if (one && !one.checked) one.click();
			return one?.checked && document.body.innerText.includes("1 call each run");
		})()`), confirm("Make it"), shows("as recorded"))
	noor.do("it runs by the clock", shows("0 findings"), shows("batch "))
	for _, f := range []wire.Finding{found[0], note[0]} {
		if got := state(f); got != "closed" {
			t.Errorf("after the watch ran against release 2, %s is %s", f.Path, got)
		}
	}
	noor.do("the proof is told", chromedp.Navigate(s.url+"/findings/"+found[0].ID),
		shows("the very call that leaked was denied"),
		shows("Next to the capture that leaked"))
	if text := must(home, "finding", "show", note[0].ID); !strings.Contains(text,
		"the very call that leaked was denied") {
		t.Errorf("the command line says\n%s", text)
	}

	release(s)
	noor.do("release 1 is back, and the watch runs again", chromedp.Navigate(s.url+"/watches/1"), shows("nightly"),
		press("Change…"), shows("Change nightly"), chromedp.KeyEvent(kb.Tab), confirm("Change it"), shows("Changed"))
	noor.do("it tells", until(`document.querySelectorAll('[aria-label="Runs"] tbody tr.ant-table-row').length > 1`))
	for _, f := range []wire.Finding{found[0], note[0]} {
		if got := state(f); got != "returned" {
			t.Errorf("after the watch ran against release 1 again, %s is %s", f.Path, got)
		}
	}
	runs := decode[wire.WatchDetail](t, must(home, "watch", "show", "1", "--format", "json")).Runs
	if len(runs) < 2 || runs[0].Findings == 0 || runs[1].Findings != 0 {
		t.Errorf("its runs are %s", fmt.Sprint(runs))
	}
	if said := noor.said(); len(said) > 0 {
		t.Errorf("the browser complains: %q", said)
	}
}
