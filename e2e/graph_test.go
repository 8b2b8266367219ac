package e2e

import (
	"path/filepath"
	"strings"
	"testing"

	"github.com/chromedp/chromedp"

	"inkret/api/wire"
)

// TestGraphsInTheConsole looks at what the harbour answers in GraphQL: the endpoint's types, the wire, the finding, the
// map, the editor; and begins another service from its schema.
func TestGraphsInTheConsole(t *testing.T) {
	s, dir := startDemo(t)
	home := t.TempDir()
	if r := run(t, home, strings.NewReader(demoPassword+"\n"), "sign-in", s.url, "--email", demoReviewer,
		"--password-stdin"); r.status != 0 {
		t.Fatal(r.err)
	}
	listed := decode[wire.EndpointPage](t, run(t, home, nil, "endpoint", "list", "--format", "json", "--size",
		"100").out)
	id := ""
	for _, e := range listed.Items {
		if e.Endpoint == "POST /graphql" {
			id = e.ID
		}
	}
	b := newBrowser(t)
	b.signIn(s, demoReviewer)
	b.do("the endpoint's types", chromedp.Navigate(s.url+"/endpoints/"+id), shows("may be asked for:"),
		shows("Query.search"),
		shows("objects of this type, as Berth"), shows("Berth.length_m · number · public"),
		shows("Skipper · by its type"))
	b.do("the wire names type and field", shows("Skipper.account"), shows("Booking.skipper"), shows("Account.iban"),
		until(`document.querySelector('[role="treeitem"][aria-label^="who, "]').ariaLabel.includes("field skipper of Booking")`))
	b.do("a finding", chromedp.Click(`//a[contains(., "high unexpected-relation")]`, chromedp.BySearch),
		shows("Skipper >> $.account"), shows("/data/booking/who/account"), shows("Booking.skipper"))
	b.do("the map", chromedp.Navigate(s.url+"/exposure?entity=Account"), shows("Exposure map"), shows("Account.iban"),
		shows("POST /graphql"))
	b.do("an operation is taken out", chromedp.Navigate(s.url+"/endpoints/"+id+"/edit"), shows("granted by type"),
		shows("Query.search"), chromedp.Click(`//button[@aria-label="Take Query.search out"]`, chromedp.BySearch),
		until(`!document.body.innerText.includes("Query.search")`), shows("What changes"))
	b.do("a response begins with an envelope", chromedp.Click(`//button[contains(., "+ response")]`, chromedp.BySearch),
		chromedp.WaitVisible(`.ant-modal input`), shows("What stands around it"), settled(),
		chromedp.Click(`//label[contains(., "What stands around it")]//div[contains(@class, "ant-select")]`,
			chromedp.BySearch),
		settled(), chromedp.Click(`//div[contains(@class, "ant-select-item-option") and @title="Problem Details, of an error"]`,
			chromedp.BySearch), settled(), confirm("Add"), shows("instance"))
	drop := chromedp.SetUploadFiles(`.beginning-upload input[type="file"]`,
		[]string{filepath.Join(dir, "harbour.graphql")},
		chromedp.ByQuery)
	b.do("another service, from the schema", chromedp.Evaluate(`sessionStorage.clear()`, nil),
		chromedp.Navigate(s.url+"/new"),
		shows("a GraphQL schema or SQL"), chromedp.SendKeys(`input[maxlength="100"]`, "pier", chromedp.ByQuery), drop,
		shows("drafted from harbour.graphql"), shows("Skipper.email"),
		chromedp.Click(`//button[.//text()="Take all suggestions"]`,
			chromedp.BySearch), chromedp.Click(`//button[.//text()="Next: classes"]`, chromedp.BySearch),
		shows("Account.iban"),
		settled(), chromedp.Click(`//button[.//text()="Next: the contract"]`, chromedp.BySearch),
		shows("Put it in force"), settled(),
		chromedp.Click(`//button[.//text()="Put it in force"]`, chromedp.BySearch), shows("Now send a recording"))
	if r := run(t, home, nil, "contract", "export", "pier", "--output", filepath.Join(home, "out")); r.status != 0 {
		t.Errorf("what was put in force cannot be exported: %s", r.err)
	}
	if r := run(t, home, nil, "contract", "check", filepath.Join(home, "out")); r.status != 0 {
		t.Errorf("it does not load: %s%s", r.out, r.err)
	}
	quiet(b)
}
