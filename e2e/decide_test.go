package e2e

import (
	"context"
	"errors"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/cdproto/runtime"
	"github.com/chromedp/chromedp"

	"inkret/api/wire"
)

// TestAWaiverIsAskedForAndApproved has a reviewer ask for a waiver of a grave finding, and a
// lead approve it, each in a browser of their own.
func TestAWaiverIsAskedForAndApproved(t *testing.T) {
	s, home := startDemo(t)
	signIn(t, s, home)
	id := decode[wire.FindingPage](t, run(t, home, nil, "finding", "list", "--severity", "critical", "--format",
		"json").out).Items[0].ID
	day := time.Now().UTC().AddDate(0, 0, 1).Format(time.DateOnly)
	noor, teodor := newBrowser(t), newBrowser(t)
	noor.signIn(s, demoReviewer)
	teodor.signIn(s, demoLead)
	noor.do("the reviewer asks", chromedp.Navigate(s.url+"/findings/"+id), shows("Who has it"), settled(),
		choose("to", "waived"), shows("A finding this grave is waived by two"),
		dated("until", day), chromedp.SendKeys(`//textarea[@id="comment"]`, "until the *kiosk* is gone",
			chromedp.BySearch),
		button("Ask for the waiver"), shows("You ask for a waiver until "+day),
		shows("It waits for a lead who is somebody else."))
	teodor.do("the lead sees it at home", chromedp.Navigate(s.url+"/"), shows("1 waiver waits for a lead who approves"),
		settled(), chromedp.Click(`//a[contains(., "waits for a lead")]`, chromedp.BySearch), shows("1 finding"),
		chromedp.Click(`//td//a[contains(@href, "`+id+`")]`, chromedp.BySearch),
		shows("Noor Adeyar asks for a waiver until "+day), shows("until the kiosk is gone"))
	teodor.do("declines without a reason, which he cannot", button("Decline…"), button("Decline"),
		shows("Say why not, for who asked"), button("Leave it waiting"))
	teodor.do("and approves", button("Approve the waiver"), shows("until "+day+", approved by Teodor Brandt"),
		shows("new → waived"))
	noor.do("who asked is told", chromedp.Navigate(s.url+"/notices"), shows("new to waived"))
	if got := decode[wire.FindingDetail](t, run(t, home, nil, "finding", "show", id, "--format",
		"json").out).Finding; got.State != wire.StateWaived || *got.WaivedUntil != day ||
		*got.WaiverApprover != "Teodor Brandt" || got.WaiverAsked != nil {
		t.Errorf("the finding is %+v", got)
	}
	if r := run(t, home, nil, "finding", "move", id, "waived", "--until", time.Now().UTC().AddDate(0, 1,
		0).Format(time.DateOnly), "-m", "longer"); r.status != 0 ||
		!strings.Contains(r.out, "Noor Adeyar asks for a waiver until") ||
		!strings.Contains(r.out, "approved by  Teodor Brandt") {
		t.Errorf("made longer: exit %d\n%s%s", r.status, r.out, r.err)
	}
	signInAs(t, s, home, demoLead)
	if r := run(t, home, nil, "finding", "list", "--waiver", "asked", "--state", "any"); !strings.Contains(r.out, id) {
		t.Errorf("what waits is\n%s%s", r.out, r.err)
	}
	if r := run(t, home, nil, "finding", "change", id, "--decline-waiver", "-m", "it is gone",
		"--yes"); r.status != 0 || !strings.Contains(r.out, "1 finding of 1 changed: waiver declined") {
		t.Errorf("declined: exit %d\n%s%s", r.status, r.out, r.err)
	}
	quiet(noor, teodor)
}

// withToken runs the command line as a pipeline does: with a token, and no home that was
// signed in.
func withToken(t *testing.T, s *server, token string, args ...string) result {
	t.Helper()
	c := exec.Command(program, args...)
	var out, errOut safeBuffer
	c.Env, c.Stdout, c.Stderr = append(environment(t.TempDir()), "INKRET_URL="+s.url, "INKRET_TOKEN="+token), &out,
		&errOut
	if err := c.Run(); err != nil && c.ProcessState == nil {
		t.Fatal(err)
	}
	return result{c.ProcessState.ExitCode(), out.String(), errOut.String()}
}

// TestAPipelineSendsItsResults makes a token that can send results and nothing else, and sends
// with it what checks of both releases found.
func TestAPipelineSendsItsResults(t *testing.T) {
	s, dir := startDemo(t)
	home := t.TempDir()
	signIn(t, s, home)
	made := decode[wire.CreatedToken](t, run(t, home, nil, "token", "make", "nightly", "--scope", "record",
		"--service", "fennick-quay", "--days", "2", "--format", "json").out)
	if made.Token.Scope != wire.Record || *made.Token.Service != "fennick-quay" {
		t.Fatalf("made %+v", made.Token)
	}
	contractsIn(t, dir)
	check := func(who string) string {
		path := filepath.Join(t.TempDir(), who+".json")
		if err := os.WriteFile(path, []byte(run(t, home, nil, "check", "--contracts", filepath.Join(dir, "c"),
			"--format", "json", filepath.Join(dir, who+".har")).out), 0o644); err != nil {
			t.Fatal(err)
		}
		return path
	}
	visitor, office := check("visitor"), check("harbour-office")
	if r := run(t, home, nil, "result", "main-line", "fennick-quay", "trunk"); r.status != 2 ||
		!strings.Contains(r.err, "needs the role lead") {
		t.Errorf("a reviewer says the main line: exit %d %s", r.status, r.err)
	}
	signInAs(t, s, home, demoLead)
	if r := run(t, home, nil, "result", "main-line", "fennick-quay", "trunk"); r.status != 0 {
		t.Errorf("exit %d %s", r.status, r.err)
	}
	if r := withToken(t, s, made.Secret, "result", "send", visitor, "--line", "trunk", "--revision", "aa11",
		"--fail-on", "never"); r.status != 0 ||
		!strings.Contains(r.out, "The main line has no result before it: all is new.") ||
		strings.Contains(r.out, "not tracked") {
		t.Errorf("the main line: exit %d\n%s%s", r.status, r.out, r.err)
	}
	if r := withToken(t, s, made.Secret, "result", "send", visitor, "--line", "berths"); r.status != 0 ||
		!strings.Contains(r.out, "0 new") {
		t.Errorf("the same on a line: exit %d\n%s%s", r.status, r.out, r.err)
	}
	r := withToken(t, s, made.Secret, "result", "send", office, "--line", "berths", "--revision", "bb22", "--link",
		"https://builds.example/7", "--format", "json")
	sent := decode[wire.ResultDetail](t, r.out)
	if r.status != 1 || len(sent.Fresh) == 0 || len(sent.Gone) == 0 || *sent.Against.Revision != "aa11" ||
		sent.Fresh[0].Severity != wire.Critical || *sent.Fresh[0].State != wire.StateNew ||
		!strings.HasPrefix(*sent.URL, s.url+"/results/") {
		t.Errorf("what is new fails: exit %d, %d new, %d gone, against %+v\n%s", r.status, len(sent.Fresh),
			len(sent.Gone), sent.Against, r.err)
	}
	for name, c := range map[string]struct {
		args []string
		want string
	}{
		"it moves nothing": {[]string{"finding", "move", sent.Fresh[0].Fingerprint, "confirmed"},
			"this token's scope is record, and this needs everything"},
		"nor makes tokens": {[]string{"token", "make", "more", "--scope", "everything"},
			"this token's scope is record"},
		"nor applies contracts": {[]string{"contract", "apply", filepath.Join(dir, "c")},
			"this token's scope is record"},
		"a recording is no result": {[]string{"result", "send", filepath.Join(dir, "visitor.har"), "--line", "x"},
			"is not what a check printed"},
		"nor of another service": {[]string{"result", "send", visitor, "--line", "x", "--service", "harbour"},
			"there is no service"},
		"nor without a line": {[]string{"result", "send", visitor}, "line"},
		"nor with a severity unlike": {[]string{"result", "send", visitor, "--line", "x", "--fail-on", "dire"},
			`there is no severity "dire"`},
	} {
		if r := withToken(t, s, made.Secret, c.args...); r.status != 2 || !strings.Contains(r.err, c.want) {
			t.Errorf("%s: exit %d\n%s%s", name, r.status, r.out, r.err)
		}
	}
	if r := withToken(t, s, made.Secret, "finding", "list"); r.status != 0 {
		t.Errorf("it cannot read: exit %d %s", r.status, r.err)
	}
	b := newBrowser(t)
	b.signIn(s, demoReviewer)
	b.do("the results are listed, and compared", chromedp.Navigate(s.url+"/results"), shows("5 results of pipelines"),
		chromedp.Click(`//td//a[text()="5"]`, chromedp.BySearch), shows("new against trunk"), shows("on trunk alone"),
		shows("https://builds.example/7"))
	b.do("forgotten", button("Forget…"), shows("Forget this result?"), button("Forget it"),
		shows("4 results of pipelines"))
	b.do("the token is listed, and ended", chromedp.Navigate(s.url+"/you"), shows("record at fennick-quay"),
		chromedp.Click(`//button[@aria-label="End the token nightly"]`, chromedp.BySearch),
		shows("What uses it is turned away"), button("End it"),
		until(`!document.body.innerText.includes("record at fennick-quay")`))
	if r := withToken(t, s, made.Secret, "finding", "list"); r.status != 2 {
		t.Errorf("an ended token reads: exit %d", r.status)
	}
	b.do("another is made in the console", button("Make a token…"), chromedp.SendKeys(`//input[@id="name"]`,
		"arrivals board", chromedp.BySearch), choose("scope", "read"), button("Make it"),
		shows("It is shown this once"), shows("inkret_"))
	quiet(b)
}

// TestFindingsAreGatheredInTheConsole goes from a group to its list, and from a finding to what it
// likely comes of.
func TestFindingsAreGatheredInTheConsole(t *testing.T) {
	s, _ := startDemo(t)
	home := t.TempDir()
	signIn(t, s, home)
	all := decode[wire.FindingGroups](t, run(t, home, nil, "finding", "groups", "--by", "value", "--format",
		"json").out)
	if len(all.Groups) < 3 || all.Groups[0].Findings < 2 {
		t.Errorf("by value %+v", all)
	}
	if r := run(t, home, nil, "finding", "groups", "--by", "shape"); r.status != 0 ||
		!strings.Contains(r.out, "fennick-quay/berth-card") {
		t.Errorf("exit %d\n%s%s", r.status, r.out, r.err)
	}
	if r := run(t, home, nil, "finding", "groups", "--by", "colour"); r.status != 2 || !strings.Contains(r.err, "by") {
		t.Errorf("exit %d\n%s", r.status, r.err)
	}
	b := newBrowser(t)
	b.signIn(s, demoReviewer)
	b.do("by field", chromedp.Navigate(s.url+"/findings"), shows("78 findings"), settled(),
		chromedp.Click(`input[aria-label="Gather by"]`), settled(),
		chromedp.Click(`//div[contains(@class, "ant-select-item-option") and @title="by entity field"]`,
			chromedp.BySearch), address("by=field"), shows("Skipper.password_hash"))
	b.do("to the list of a group", settled(), chromedp.Click(`//td//a[text()="Skipper.password_hash"]`,
		chromedp.BySearch), address("field=password_hash"), shows("4 findings"), shows("Change all 4"))
	b.do("a finding says what it comes with", settled(),
		chromedp.Click(`(//tr[contains(., "bookings[*]")]//a[text()="secret-value"])[1]`, chromedp.BySearch),
		shows("What it likely comes of"), shows("it comes with $.data[*].bookings, which is not granted either"),
		shows("the stored Skipper seems to go out as it is"),
		settled(), chromedp.Click(`//a[text()="Look at that one"]`, chromedp.BySearch), shows("unexpected-relation"),
		chromedp.Navigate(s.url+"/findings?kind=secret-value"), shows("4 findings"))
	var text string
	b.do("a report is taken away", button("Report…"), settled(),
		chromedp.WaitVisible(`//a[contains(., "for an auditor")]`, chromedp.BySearch),
		chromedp.Evaluate(`fetch([...document.querySelectorAll(".ant-dropdown-menu a")].find((a) => a.innerText.includes("auditor")).href).then((r) => r.text())`, &text, func(p *runtime.EvaluateParams) *runtime.EvaluateParams { return p.WithAwaitPromise(true) }))
	if !strings.Contains(text, "Waivers in force") {
		t.Errorf("the report is\n%.300s", text)
	}
	quiet(b)
}

// TestARoleAtOneService gives a viewer the lead at the harbour, on the command line and in the
// console.
func TestARoleAtOneService(t *testing.T) {
	s, home := startDemo(t)
	signInAs(t, s, home, "marlo@fennick-quay.example")
	if r := run(t, home, nil, "person", "role", demoViewer, "captain", "--service", "fennick-quay"); r.status != 2 ||
		!strings.Contains(r.err, `there is no role "captain"`) {
		t.Errorf("exit %d %s", r.status, r.err)
	}
	if r := run(t, home, nil, "person", "role", demoViewer, "lead", "--service", "fennick-quay"); r.status != 0 ||
		!strings.Contains(r.out, "is viewer, lead at fennick-quay and may come in") {
		t.Errorf("exit %d %s%s", r.status, r.out, r.err)
	}
	iva, marlo := newBrowser(t), newBrowser(t)
	iva.signIn(s, demoViewer)
	iva.do("she may decide there", chromedp.Navigate(s.url+"/findings?kind=heavy-excess"), shows("finding"), settled(),
		chromedp.Click(`(//td//a[text()="heavy-excess"])[1]`, chromedp.BySearch), shows("Move to"))
	iva.do("but says not who comes in", chromedp.Navigate(s.url+"/people"), shows("lead at fennick-quay"),
		until(`!document.body.innerText.includes("Invite somebody")`))
	marlo.signIn(s, "marlo@fennick-quay.example")
	marlo.do("it is taken back", chromedp.Navigate(s.url+"/people"), shows("lead at fennick-quay"), settled(),
		chromedp.Click(`[aria-label="Take lead at fennick-quay from Iva Salk"]`),
		until(`!document.body.innerText.includes("lead at fennick-quay")`))
	marlo.do("and another given", chromedp.Click(`[aria-label="Another role at a service for Iva Salk"]`),
		shows("reviewer at fennick-quay"), settled(),
		chromedp.Click(`//div[contains(@class, "ant-select-item-option") and @title="reviewer at fennick-quay"]`,
			chromedp.BySearch), shows("reviewer at fennick-quay"))
	signInAs(t, s, home, demoViewer)
	moved := decode[wire.FindingsChanged](t, run(t, home, nil, "finding", "change", "--filter", "kind=heavy-excess",
		"--to", "confirmed", "--yes", "--format", "json").out)
	if moved.Findings != 3 {
		t.Errorf("as reviewer at the harbour she moves %+v", moved)
	}
	if r := run(t, home, nil, "result", "main-line", "fennick-quay", "trunk"); r.status != 2 ||
		!strings.Contains(r.err, "this needs the role lead; yours is") {
		t.Errorf("exit %d %s", r.status, r.err)
	}
}

// TestPeopleAreMailed has somebody be mailed at once, by a running service through a mail
// server, and reads what arrives.
func TestPeopleAreMailed(t *testing.T) {
	s, home := startDemo(t)
	box := s.address(t, "mail")
	iva, noor := newBrowser(t), newBrowser(t)
	iva.signIn(s, demoViewer)
	noor.signIn(s, demoReviewer)
	iva.do("she wants to be mailed at once", chromedp.Navigate(s.url+"/you"),
		shows("once a day, with what waits for you"), chromedp.Click(`//label[contains(., "at once")]`,
			chromedp.BySearch), shows("Kept"), button("Send me a test"), shows("A test is on its way to you"))
	noor.do("a view is shared", chromedp.Navigate(s.url+"/findings?q=quay_label"), settled(), button("Views"),
		chromedp.SendKeys(`input[placeholder^="Keep this list"]`, "Renamed"),
		chromedp.Click(`//span[text()="others see it too"]`, chromedp.BySearch), settled(),
		chromedp.Click(`//button[normalize-space()="Keep"]`, chromedp.BySearch), shows("Kept as Renamed"))
	iva.do("and followed", chromedp.Navigate(s.url+"/findings"), settled(), button("Views"), shows("Renamed"),
		button("Follow"), shows("✓ Following"))
	noor.do("she is mentioned", chromedp.Navigate(s.url+"/findings?kind=secret-value"), shows("4 findings"), settled(),
		chromedp.Click(`(//td//a[text()="secret-value"])[1]`, chromedp.BySearch), shows("Decide"),
		chromedp.SendKeys(`//textarea[@id="comment"]`, "@iva the hash is $2b$12$thisIsNotForMail", chromedp.BySearch),
		button("Comment"), shows("Comment added"))
	renamed := filepath.Join(t.TempDir(), "renamed.har")
	har, err := os.ReadFile(filepath.Join(home, "visitor.har"))
	if err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(renamed, []byte(strings.ReplaceAll(string(har), `\"label\":`, `\"quay_label\":`)),
		0o600); err != nil {
		t.Fatal(err)
	}
	signIn(t, s, home)
	if r := run(t, home, nil, "capture", "upload", "--service", "fennick-quay", renamed); r.status != 0 {
		t.Fatalf("exit %d\n%s%s", r.status, r.out, r.err)
	}
	iva.do("the mail has arrived", chromedp.Navigate(box), chromedp.ActionFunc(func(ctx context.Context) error {
		for deadline := time.Now().Add(pageTime); time.Now().Before(deadline); {
			var text string
			if err := chromedp.Run(ctx, chromedp.Navigate(box), chromedp.Evaluate(`document.body.innerText`,
				&text)); err != nil {
				return err
			}
			if strings.Contains(text, "Inkret: a test") && strings.Contains(text, "Noor Adeyar mentions you") &&
				strings.Contains(text, "Renamed: ") && strings.Contains(text, s.url+"/findings?q=quay_label") {
				if strings.Contains(text, "thisIsNotForMail") {
					t.Errorf("a mail has what people wrote:\n%s", text)
				}
				return nil
			}
		}
		return errors.New("it has not")
	}))
	if r := run(t, home, nil, "mail", "list"); r.status != 2 ||
		!strings.Contains(r.err, "needs the role administrator") {
		t.Errorf("exit %d\n%s", r.status, r.err)
	}
	if r := run(t, home, nil, "mail", "when", "never"); r.status != 0 ||
		!strings.Contains(r.out, "You are mailed: never.") {
		t.Errorf("exit %d\n%s%s", r.status, r.out, r.err)
	}
	signInAs(t, s, home, "marlo@fennick-quay.example")
	if r := run(t, home, nil, "mail", "list"); r.status != 0 || !strings.Contains(r.out, "Inkret: a test") ||
		!strings.Contains(r.out, "taken") {
		t.Errorf("exit %d\n%s%s", r.status, r.out, r.err)
	}
	marlo := newBrowser(t)
	marlo.signIn(s, "marlo@fennick-quay.example")
	marlo.do("and the console lists it", chromedp.Navigate(s.url+"/settings"), shows("Inkret: a test"),
		shows("✓ taken"))
	quiet(iva, noor, marlo)
}

// TestSigningInWithAProvider goes through the stand-in provider in a browser: as somebody who is
// here, who was invited, who was not, and who does not say.
func TestSigningInWithAProvider(t *testing.T) {
	s, _ := startDemo(t)
	home := t.TempDir()
	signInAs(t, s, home, "marlo@fennick-quay.example")
	b := newBrowser(t)
	link := func(text string) chromedp.Action {
		return chromedp.Tasks{settled(), chromedp.Click(`//a[contains(., "`+text+`")]`, chromedp.BySearch)}
	}
	as := func(who string) []chromedp.Action {
		return []chromedp.Action{link("Sign in with Fennick Quay"), shows("Who are you?"),
			chromedp.Click(`//a[text()="`+who+`"]`, chromedp.BySearch)}
	}
	b.do("who is not invited is not let in",
		append(append([]chromedp.Action{chromedp.Navigate(s.url + "/findings?state=any")}, as("Wim Tarn")...),
			shows("Nobody with the address that the provider vouches for is invited."))...)
	b.do("nor who does not say", append(as("I do not say"), shows("The provider did not say who you are"))...)
	if r := run(t, home, nil, "person", "invite", "wim@fennick-quay.example", "--role", "reviewer"); r.status != 0 {
		t.Fatalf("exit %d %s", r.status, r.err)
	}
	b.do("who is invited comes in, to where he wanted to go",
		append(append([]chromedp.Action{chromedp.Navigate(s.url + "/findings?kind=heavy-excess")}, as("Wim Tarn")...),
			address("/findings?kind=heavy-excess"), shows("3 findings"), shows("Wim Tarn"))...)
	b.do("and stays in", chromedp.Navigate(s.url+"/you"), shows("wim@fennick-quay.example, reviewer"),
		chromedp.Click(`[aria-label="Sign out"]`), shows("Sign in with Fennick Quay"))
	b.do("a lead too", append(as("Teodor Brandt"), shows("What needs you"), shows("Teodor Brandt"))...)
	if r := run(t, home, nil, "person", "list"); strings.Contains(r.out, "not here yet") ||
		!strings.Contains(r.out, "Wim Tarn") {
		t.Errorf("%s%s", r.out, r.err)
	}
	quiet(b)
}

// TestASessionThatEndsInTheMiddle ends a session while somebody writes: they sign in over the page
// as it is, what they sent is sent once more, and nothing typed is lost.
func TestASessionThatEndsInTheMiddle(t *testing.T) {
	s, _ := startDemo(t)
	home := t.TempDir()
	signInAs(t, s, home, "marlo@fennick-quay.example")
	b := newBrowser(t)
	b.signIn(s, demoReviewer)
	out := func() {
		t.Helper()
		for _, what := range []string{"keep-out", "let-in"} { // which ends all sessions
			if r := run(t, home, nil, "person", what, demoReviewer); r.status != 0 {
				t.Fatalf("exit %d %s", r.status, r.err)
			}
		}
	}
	in := func(password string) []chromedp.Action {
		return []chromedp.Action{shows("Your session has ended"), settled(),
			selected(`.ant-modal input[autocomplete="current-password"]`), chromedp.KeyEvent(password),
			chromedp.Click(`//div[contains(@class, "ant-modal")]//button[@type="submit"]`, chromedp.BySearch)}
	}
	b.do("a comment is written", chromedp.Navigate(s.url+"/findings?kind=selection-ignored"), shows("1 finding"),
		settled(), chromedp.Click(`//td//a[text()="selection-ignored"]`, chromedp.BySearch), shows("Who has it"),
		settled(),
		chromedp.SendKeys(`//textarea[@id="comment"]`, "an hour of thoughts about this", chromedp.BySearch))
	out()
	b.do("and sent when the session has ended", append([]chromedp.Action{button("Comment")},
		in("not the password")...)...)
	b.do("a wrong password is told", shows("e-mail address or password is wrong"))
	b.do("with the right one it goes on, and the comment is there", append(in(demoPassword), shows("Comment added"),
		shows("an hour of thoughts about this"),
		until(`!document.querySelector(".ant-modal-wrap") || getComputedStyle(document.querySelector(".ant-modal-wrap")).display === "none"`))...)
	b.do("a change of many is prepared", chromedp.Navigate(s.url+"/findings?kind=heavy-excess"), shows("3 findings"),
		button("Change all 3…"), shows("Change all 3 findings"), chromedp.SendKeys(`//textarea[@id="comment"]`,
			"the list is too long", chromedp.BySearch))
	out()
	b.do("and tried, signed in again, and done",
		append(append([]chromedp.Action{choose("to", "confirmed"), button("See what changes")}, in(demoPassword)...),
			shows("3 findings of 3 change"), button("Change 3 findings"), shows("3 findings changed"))...)
	out()
	b.do("who does not want to is shown the way in", chromedp.Navigate(s.url+"/findings"),
		shows("Sign in with Fennick Quay"))
	quiet(b)
}
