package e2e

import (
	"fmt"
	"strings"
	"testing"

	"github.com/chromedp/chromedp"

	"inkret/api/wire"
)

// TestNobodyDismissesASevereFindingAlone runs, as one reviewer, the ordinary commands that take a severe finding
// off the list. Each asks for a second person, and the list stays as it is until another person, who is lead, does
// the same.
func TestNobodyDismissesASevereFindingAlone(t *testing.T) {
	s, dir := startDemo(t)
	noor, teodor, marlo, iva := as(t, s, "noor"), as(t, s, "teodor"), as(t, s, "marlo"), as(t, s, "iva")
	severe := func() map[string]string {
		t.Helper()
		all := map[string]string{}
		for _, f := range decode[wire.FindingPage](t, run(t, noor, nil, "finding", "list", "--severity",
			"critical,high", "--size", "500", "--format", "json").out).Items {
			all[f.ID] = string(f.Kind) + " " + f.Endpoint + " " + f.Path
		}
		return all
	}
	same := func(after string, before map[string]string) {
		t.Helper()
		now := severe()
		for id, what := range before {
			if now[id] == "" {
				t.Errorf("%s took %s off the list", after, what)
			}
		}
	}
	before := severe()
	if len(before) < 30 {
		t.Fatalf("only %d severe findings are open", len(before))
	}
	one := ""
	for id := range before {
		one = id
	}
	tries := []step{
		{noor, "capture withdraw 1 --reason tidy --yes", 1, "A lead who is somebody else approves it", ""},
		{noor, "capture withdraw 2 --reason tidy --yes", 1, "It is not done yet", ""},
		{noor, "capture withdraw 3 --reason tidy --yes", 1, "It is not done yet", ""},
		{noor, "capture withdraw 1 --reason tidy --yes", 2, "you asked for it already", ""},
		{noor, "capture audience 1 harbour-office", 1, "It is not done yet", ""},
	}
	for _, c := range tries {
		walk(t, []step{c})
		same(c.args, before)
	}
	walk(t, []step{
		{iva, "capture withdraw 2 --reason tidy --yes", 2, "needs the role reviewer", ""},
		{noor, "service second-person off --reason alone", 2, "needs the role administrator", ""},
		{teodor, "service second-person off --reason alone", 2, "needs the role administrator", ""},
		{teodor, "capture decline 3", 2, "needs a reason", ""},
		{teodor, "capture decline 3 --comment \"the leak is real\"", 0, "Nothing waits at batch 3", ""},
		{noor, "capture decline 3", 2, "there is no", ""},
		{noor, "capture decline 1", 0, "Nothing waits", ""},
	})
	same("declining", before)

	b := newBrowser(t)
	b.signIn(s, demoLead)
	b.do("a lead is shown what waits", chromedp.Navigate(s.url+"/captures?batch=2"),
		shows("Noor Adeyar asks to withdraw this recording"), shows("of high or critical severity off the list"),
		shows("You decide."))
	quiet(b)
	b.do("and approves it", button("Approve"),
		until(`location.pathname === "/captures" && !location.search.includes("batch=2")`))
	walk(t, []step{
		{noor, "capture batches", 0, "2 batches", ""},
		{noor, "trail list --action \"ask to withdraw\"", 0, "severe findings would leave the list: tidy", ""},
		{noor, "trail list --action \"approve to withdraw\"", 0, "teodor@fennick-quay.example", ""},
	})
	before = severe()
	for id := range before {
		one = id
	}
	for _, c := range []step{
		{noor, "finding move " + one + " not-a-leak --comment \"looks fine\"", 0, "", ""},
		{noor, "finding move " + one + " waived --until 2099-01-01 --comment later", 0, "", ""},
		{noor, "finding change --filter severity=critical --to not-a-leak --comment all --yes", 0, "", ""},
		{noor, "finding change --filter severity=high --to waived --until 2099-01-01 --comment all --yes", 0, "", ""},
	} {
		walk(t, []step{c})
		same(c.args, before)
	}
	walk(t, []step{
		{noor, "trail list --action \"ask for not-a-leak\"", 0, "noor@fennick-quay.example", ""},
		{noor, "trail list --action \"ask for waived\"", 0, "until 2099-01-01", ""},
	})
	walk(t, []step{
		{marlo, "service second-person off", 2, "say why", ""},
		{marlo, "service second-person off --reason \"a team of one\"", 0, "One person alone decides at fennick-quay",
			""},
		{noor, "trail list --action \"switch second person off\"", 0, "a team of one", ""},
	})
	left := severe()
	for id := range left {
		one = id
		break
	}
	walk(t, []step{{noor, fmt.Sprintf("finding move %s not-a-leak --comment \"a team of one\"", one), 0, "", ""}})
	if now := severe(); now[one] != "" {
		t.Errorf("with the second person switched off, %s is still there", now[one])
	}
	page := run(t, noor, nil, "finding", "report", "--format", "html", "--service", "fennick-quay")
	if !strings.Contains(page.out, "One person alone decides here") {
		t.Errorf("the report does not say so: exit %d %s", page.status, page.err)
	}
	b.do("the overview says so, too", chromedp.Navigate(s.url+"/standing"),
		shows("One person alone decides at fennick-quay"))
	_ = dir
}
