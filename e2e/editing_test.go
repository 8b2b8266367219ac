package e2e

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"

	"inkret/api/wire"
)

// press clicks a button by its text, once it can be clicked.
func press(text string) chromedp.Action { return pressIn("", text) }

// confirm clicks a button of the dialog that is open.
func confirm(text string) chromedp.Action { return pressIn(".ant-modal-footer ", text) }

func pressIn(where, text string) chromedp.Action {
	return until(`(() => {
		const button = [...document.querySelectorAll(` + quote(where+"button") +
		`)].filter((b) => b.innerText.includes(` + quote(text) + `) && !b.disabled && b.checkVisibility()).at(-1);
		button?.click();
		return button !== undefined;
	})()`)
}

// follow clicks the last link in the row of a table that has a text.
func follow(text string) chromedp.Action {
	return until(`(() => {
		const link = [...document.querySelectorAll("tr")].filter((r) => r.innerText.includes(` + quote(text) +
		`)).at(-1)?.querySelectorAll("a");
		link?.[link.length - 1]?.click();
		return link?.length > 0;
	})()`)
}

// tab opens a tab by its text.
func tab(text string) chromedp.Action {
	return chromedp.Click(`//div[@role="tab"][contains(., "`+text+`")]`, chromedp.BySearch)
}

// view switches between grants and text.
func view(text string) chromedp.Action {
	return chromedp.Evaluate(`[...document.querySelectorAll(".ant-segmented-item")].find((e) => e.innerText === `+
		quote(text)+`).click()`, nil)
}

// typed puts text in the place of what a line of the contract's text has, as somebody
// who selects it and types would.
func typed(was, becomes string) chromedp.Action {
	return chromedp.Tasks{until(`[...document.querySelectorAll(".cm-line")].some((l) => l.textContent.includes(` +
		quote(was) + `))`), chromedp.Evaluate(`(() => {
		const line = [...document.querySelectorAll(".cm-line")].findLast((l) => l.textContent.includes(`+quote(was)+`));
		const walker = document.createTreeWalker(line, NodeFilter.SHOW_TEXT);
		const from = line.textContent.indexOf(`+quote(was)+`), to = from + `+quote(was)+`.length;
		const range = document.createRange();
		for (let at = 0, n; (n = walker.nextNode()); at += n.length) {
			if (at <= from && from <= at + n.length) range.setStart(n, from - at);
			if (at <= to && to <= at + n.length) range.setEnd(n, to - at);
		}
		document.querySelector(".cm-content").focus();
		getSelection().removeAllRanges();
		getSelection().addRange(range);
		document.execCommand("insertText", false, `+quote(becomes)+`);
	})()`, nil)}
}

// TestEditingAContractInTheConsole: ticking and typing show the same contract, the
// effect on recorded traffic is seen before saving, and a second person approves.
func TestEditingAContractInTheConsole(t *testing.T) {
	s, _ := startDemo(t)
	b := newBrowser(t)
	b.signIn(s, demoReviewer)
	b.do("an endpoint's contract is opened", chromedp.Navigate(s.url+"/endpoints"), shows("GET /v1/berths"),
		chromedp.Click(`//a[text()="GET /v1/skippers/{skipper_id}"]`, chromedp.BySearch),
		press("Edit the contract"), shows("Skipper has"), shows("Nothing is changed yet"))
	b.do("the office's response is chosen", press("2XX · harbour-office"),
		chromedp.WaitVisible(`//button[@role="tab"][@aria-selected="true"][contains(., "harbour-office")]`,
			chromedp.BySearch))
	const trials = `performance.getEntriesByType("resource").filter((e) => e.name.includes("contracts/trial")).length`
	var before, after int
	b.do("a field is ticked", chromedp.Evaluate(trials, &before),
		chromedp.Click(`//label[contains(., "born_on")]`, chromedp.BySearch),
		shows("lets harbour-office see Skipper.born_on"), shows("widening, personal"),
		until(`!document.querySelector(".busy")`), chromedp.Evaluate(trials, &after))
	if after != before+1 {
		t.Errorf("one tick asks the service %d times", after-before)
	}
	b.do("the text shows it", view("Text"), shows("born_on:"))
	b.do("what is typed shows among the grants", typed("born_on:", "birthday: {field: born_on, needed_by: [desk]}"),
		view("Grants"), shows("birthday"), shows("needed by desk"))
	b.do("a fault is told at its place", view("Text"), typed("field: born_on", "field: born_at"),
		shows("1 problem: the contract cannot be used so"), shows("did you mean “born_on”?"),
		until(`document.querySelector(".cm-lint-marker-error, .cm-lintRange-error")`))
	b.do("nothing typed is lost by a reload", chromedp.Reload(), shows("1 problem"),
		typed("field: born_at", "field: born_on"),
		until(`!document.body.innerText.includes("1 problem")`))
	b.do("the effect on recorded traffic is shown", tab("Effect on recorded traffic"),
		press("Judge the recorded captures by both"), shows("captures judged by both"), shows("would come"))
	b.do("it is put up for approval", press("Put up for approval"),
		shows("takes effect when somebody else approves it"), chromedp.SendKeys(`.ant-modal input`,
			"birthdays are greeted"+kb.Enter), shows("waits for a second person"))
	b.do("nobody approves their own", chromedp.Navigate(s.url+"/contracts/fennick-quay/revisions/2"),
		shows("Nobody approves a revision of their own"), shows("birthdays are greeted"))
	if said := b.said(); len(said) > 0 {
		t.Errorf("the browser complains: %q", said)
	}

	second := newBrowser(t)
	second.signIn(s, "teodor@fennick-quay.example")
	second.do("the lead sees what waits", shows("1 revision of contracts waits for a second person"),
		chromedp.Click(`//a[contains(., "revision 2")]`, chromedp.BySearch),
		shows("lets harbour-office see Skipper.born_on"),
		press("Approve"), shows("✓ in force"), shows("approved by Teodor Brandt"))
	second.do("and can go back", chromedp.Navigate(s.url+"/contracts/fennick-quay/revisions/1"),
		press("Back to this revision"), chromedp.SendKeys(`.ant-modal input`, "enough"), confirm("Make a new revision"),
		shows("Revision 3 is in force"))
	if said := second.said(); len(said) > 0 {
		t.Errorf("the second browser complains: %q", said)
	}
}

// TestTwoPeopleEditAtOnce: the second is shown the first's change, and merges.
func TestTwoPeopleEditAtOnce(t *testing.T) {
	s, dir := startDemo(t)
	home := t.TempDir()
	signIn(t, s, home)
	b := newBrowser(t)
	b.signIn(s, "teodor@fennick-quay.example")
	b.do("one changes the team of an endpoint", chromedp.Navigate(s.url+"/endpoints"), shows("GET /v1/berths"),
		chromedp.Click(`//a[text()="GET /v1/charges"]`, chromedp.BySearch), press("Edit the contract"),
		chromedp.WaitVisible(`input[aria-label="Team"]`), selected(`input[aria-label="Team"]`),
		chromedp.KeyEvent("cashiers"+kb.Enter), shows("belongs to team cashiers"))
	path := filepath.Join(dir, "fennick-quay.yaml")
	data, err := os.ReadFile(path)
	if err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(path, []byte(strings.Replace(string(data), "team: moorings", "team: piers", 1)),
		0o644); err != nil {
		t.Fatal(err)
	}
	contracts := t.TempDir()
	for _, name := range []string{"catalogue.yaml", "fennick-quay.yaml", "harbour.graphql"} {
		if err := os.Rename(filepath.Join(dir, name), filepath.Join(contracts, name)); err != nil {
			t.Fatal(err)
		}
	}
	expect{"contract apply " + contracts, 0, "revision 2 is in force"}.run(t, home)
	b.do("saving shows the other's change, and merges", press("Save"), shows("Save as a revision after 1"),
		chromedp.KeyEvent("cash"+kb.Enter), shows("Noor Adeyar changed the contracts meanwhile"),
		shows("belongs to team piers"), shows("Nothing was changed by both"))
	b.do("then it is saved", press("Save"), shows("Save as a revision after 2"), confirm("Save"),
		shows("Revision 3 is in force"))
	out := run(t, home, nil, "contract", "export", "fennick-quay").out
	if !strings.Contains(out, "team: cashiers") || !strings.Contains(out, "team: piers") {
		t.Error("one of the two changes is lost")
	}
}

// TestTheCatalogueInTheConsole: read, class, look where a field goes, the map, and
// what is covered.
func TestTheCatalogueInTheConsole(t *testing.T) {
	s, dir := startDemo(t)
	b := newBrowser(t)
	b.signIn(s, demoReviewer)
	b.do("a schema is read", chromedp.Navigate(s.url+"/entities?tab=read"), shows("Drop a file"),
		chromedp.SetUploadFiles(`input[type="file"]`, []string{filepath.Join(dir, "harbour.sql")}),
		shows("11 differences"), shows("Boat.skipper_id"))
	b.do("and taken over", press("Take 11 over"), shows("Revision 2 is in force"))
	b.do("what has no class stands in a queue, with suggestions", chromedp.Navigate(s.url+"/entities?tab=queue"),
		shows("Boat.skipper_id"), shows("is kept in the house, as a rule"))
	b.do("all suggestions that are shown are accepted", press("Accept all"), shows("Revision 3 is in force"),
		until(`!document.body.innerText.includes("Boat.skipper_id")`), shows("Skipper.loyalty_tier"))
	b.do("one is chosen by hand", chromedp.Click(`[aria-label="Class of Skipper.loyalty_tier"]`),
		chromedp.KeyEvent(kb.ArrowUp+kb.ArrowUp+kb.Enter), press("Save 1 class"),
		until(`document.body.innerText.includes("waits for a second person") || document.body.innerText.includes("Every field has a class")`))
	b.do("where a field goes is told", chromedp.Navigate(s.url+"/entities/fennick-quay/Skipper?field=email"),
		shows("Where does Skipper.email go?"), shows("leaking"), shows("needed by skipper-app"))
	b.do("the map has it", chromedp.Navigate(s.url+"/exposure?entity=Account"),
		chromedp.WaitVisible(`[aria-label="Account.iban at GET /v1/berths for visitor: leaking"]`))
	b.do("and is walked by keys", chromedp.Focus(`[role="grid"]`), chromedp.KeyEvent(kb.ArrowDown+kb.ArrowRight),
		shows("Account.iban"), until(`document.querySelector(".map-here").innerText.includes("for skipper: leaking")`),
		chromedp.KeyEvent(kb.Enter), address("/findings?"), shows("finding"))
	b.do("gaps lead to their next step", chromedp.Navigate(s.url+"/contracts?tab=coverage"),
		shows("seen without a contract"), follow("draft a contract from its 3 captures"),
		shows("Drafted GET /v1/boats/{boat_id}"), shows("To decide"), shows("goes out"))
	b.do("shapes are pulled out and written out", chromedp.Evaluate(`sessionStorage.clear()`, nil),
		chromedp.Navigate(s.url+"/contracts?tab=shapes"), shows("booking-line"),
		chromedp.Click(`//section[@aria-label="Shape berth-card"]//button[contains(., "Write out everywhere")]`,
			chromedp.BySearch),
		shows("edit fennick-quay"), tab("As text"), shows("-  berth-card:"))
	b.do("the shape is proposed again", press("Save"), shows("Save as a revision"), confirm("Save"),
		shows("is in force"), chromedp.Navigate(s.url+"/contracts?tab=shapes"),
		shows("6 places of Berth grant the same 4"), press("Pull out as a shape"), confirm("Look at the change"),
		shows("edit fennick-quay"))
	b.do("other forms are shown", chromedp.Evaluate(`sessionStorage.clear()`, nil),
		chromedp.Navigate(s.url+"/contracts?tab=forms&form=typescript"), shows("export type GetV1Berths2XX"))
	b.do("advice leads to its line", chromedp.Navigate(s.url+"/contracts?tab=advice"), follow("Staff.phone"),
		until(`document.querySelector(".cm-activeLine")?.textContent.includes("phone")`))
	if said := b.said(); len(said) > 0 {
		t.Errorf("the browser complains: %q", said)
	}
	home := t.TempDir()
	signIn(t, s, home)
	r := decode[wire.RevisionPage](t, run(t, home, nil, "contract", "revisions", "fennick-quay", "--format",
		"json").out)
	if r.Total < 4 {
		t.Errorf("%d revisions", r.Total)
	}
}

// TestLeavingTheEditor checks that changes which are not saved are asked after, within the console and out of it, and
// that discarded ones can be brought back.
func TestLeavingTheEditor(t *testing.T) {
	s, _ := startDemo(t)
	b := newBrowser(t)
	b.signIn(s, demoReviewer)
	findings := chromedp.Click(`//nav//a[text()="Findings"]`, chromedp.BySearch)
	leaving := func() int {
		b.mu.Lock()
		defer b.mu.Unlock()
		return b.asked
	}
	b.do("something is changed", chromedp.Navigate(s.url+"/endpoints"), shows("GET /v1/berths"),
		chromedp.Click(`//a[text()="GET /v1/berths/{berth_id}"]`, chromedp.BySearch), press("Edit the contract"),
		shows("Berth has"), chromedp.Click(`//label[contains(., "repair_note")]`, chromedp.BySearch),
		shows("Grant repair_note by the shape berth-card?"), button("Only here"), shows("lets visitor"),
		until(`!document.querySelector(".ant-modal-confirm")`))
	b.do("to stay", findings, shows("The changes are not saved"), confirm("Stay"), shows("lets visitor"),
		address("/edit"), settled()) // while the question fades it takes clicks
	b.do("to leave, and come back to it", findings, shows("The changes are not saved"), confirm("Leave, and keep"),
		shows("78 findings"), chromedp.NavigateBack(), shows("lets visitor"))
	b.do("to discard, and bring back", button("Discard"), shows("The changes are discarded"), press("Bring them back"),
		shows("lets visitor"))
	if n := leaving(); n != 0 {
		t.Errorf("within the console the browser asks %d times", n)
	}
	b.do("out of the console", chromedp.Navigate(s.url+"/endpoints"), shows("GET /v1/berths"))
	if n := leaving(); n != 1 {
		t.Errorf("out of it the browser asks %d times", n)
	}
	b.do("to leave without", chromedp.Click(`//a[text()="GET /v1/berths/{berth_id}"]`, chromedp.BySearch),
		press("Edit the contract"), shows("lets visitor"), findings, shows("The changes are not saved"),
		confirm("Discard and leave"), shows("78 findings"), chromedp.NavigateBack(), shows("Berth has"),
		until(`!document.body.innerText.includes("lets visitor")`), findings, shows("78 findings"))
	if said := b.said(); len(said) > 0 {
		t.Errorf("the browser complains: %q", said)
	}
}

// TestAShapeIsEditedInPlace takes a member out of a shape where it is used, and grants it again: the editor says where
// else the shape is, asks, and writes the change into the shape, or beside it.
func TestAShapeIsEditedInPlace(t *testing.T) {
	s, _ := startDemo(t)
	b := newBrowser(t)
	b.signIn(s, demoReviewer)
	b.do("an endpoint with a shape is opened", chromedp.Navigate(s.url+"/endpoints"), shows("GET /v1/berths"),
		chromedp.Click(`//a[text()="GET /v1/berths/{berth_id}"]`, chromedp.BySearch), press("Edit the contract"),
		shows("Berth has"), shows("◇ berth-card"))
	take := chromedp.Click(`button[aria-label="Take label out"]`, chromedp.ByQuery)
	b.do("it asks, and says where else the shape is", take, shows("Change the shape berth-card?"),
		shows("GET /v1/bookings/{booking_id}"), button("Leave"), until(`!document.querySelector(".ant-modal-confirm")`),
		shows("Nothing is changed yet"))
	b.do("it is taken out for all", take, shows("Change the shape berth-card?"), button("Change it for all"),
		until(`!document.querySelector('button[aria-label="Take label out"]')`), shows("narrowing"))
	b.do("the shape's text has it no more", until(`Object.values(sessionStorage).some((v) =>
		/berth-card:[\\]n *entity: Berth[\\]n *grants:[\\]n *id:[\\]n *length/.test(v))`))
	give := chromedp.Tasks{
		settled(), chromedp.Click(`//label[contains(@class, "ant-checkbox-wrapper")][.="label"]`, chromedp.BySearch),
		shows("Grant label by the shape berth-card?"),
	}
	gone := until(`!document.querySelector(".ant-modal-confirm")`)
	b.do("granting it asks too", give, button("Leave"), gone,
		until(`!document.querySelector('button[aria-label="Take label out"]')`))
	b.do("it is granted here only", give, button("Only here"), gone,
		shows("label"), until(`document.querySelector('button[aria-label="Take label out"]') &&
			!document.querySelector('button[aria-label="Take label out"]').closest(".grant-row").innerText.includes("◇")`))
	b.do("and is taken out again without a question", take,
		until(`!document.querySelector('button[aria-label="Take label out"]')`))
	b.do("it is granted by the shape", give, button("By the shape, for all"), gone,
		until(`document.querySelector('button[aria-label="Take label out"]')?.closest(".grant-row")
			.innerText.includes("◇ berth-card")`))
	b.do("the shape's text has it again", until(`Object.values(sessionStorage).some((v) =>
		/berth-card:[\\]n *entity: Berth[\\]n *grants:[\\]n( *\w+:[^\\]*[\\]n)* *label:/.test(v))`))
	quiet(b)
}
