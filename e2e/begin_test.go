package e2e

import (
	"bytes"
	"encoding/json"
	"inkret/api/wire"
	"mime/multipart"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/chromedp/chromedp"
)

// TestStartingInTheConsole goes from the set-up link to the first findings with a recording at hand, in the
// console alone, and counts the clicks; then it begins another service, leaves it in the middle, and comes
// back.
func TestStartingInTheConsole(t *testing.T) {
	_, dir := startDemo(t)
	s := start(t, "serve", "--listen", "127.0.0.1:0", "--data", t.TempDir())
	_, code, _ := strings.Cut(s.printed, "/set-up#")
	code = strings.TrimSpace(code)
	b := newBrowser(t)
	clicks := 0
	click := func(selector string) chromedp.Action {
		clicks++
		return chromedp.Click(selector, chromedp.BySearch)
	}
	button := func(text string) chromedp.Action { return click(`//button[.//text()="` + text + `"]`) }
	drop := func(files ...string) chromedp.Action {
		clicks++ // to choose them
		return chromedp.SetUploadFiles(`.beginning-upload input[type="file"]`, files, chromedp.ByQuery)
	}
	b.do("set oneself up", chromedp.Navigate(s.url+"/set-up#"+code), chromedp.WaitVisible(`input[autocomplete="name"]`),
		shows("Set yourself up"),
		chromedp.SendKeys(`input[autocomplete="name"]`, "Ada"),
		chromedp.SendKeys(`input[autocomplete="username"]`, "ada@quay.example"),
		chromedp.SendKeys(`input[autocomplete="new-password"]`, demoPassword), click(`//button[@type="submit"]`),
		shows("Bring an API under review"), settled())
	b.do("draft from a recording", drop(filepath.Join(dir, "skipper.har"), filepath.Join(dir, "harbour-office.har")),
		shows("drafted from skipper.har, harbour-office.har"), shows("open, the most important first"),
		shows("Skipper.password_hash"), settled())
	b.do("answer one question, and take the suggestions for the rest",
		click(`(//fieldset[.//strong[text()="Account.iban"]]//label)[4]`), shows("1 question answered"),
		button("Take all suggestions"), shows("2 questions open that nothing suggests"), button("Next: classes"),
		shows("Account.iban"), settled())
	b.do("look at the contract", button("Next: the contract"), shows("Put it in force"), settled())
	b.do("put it in force", button("Put it in force"), shows("Its contract is in force."), shows("skipper.har: "),
		shows("harbour-office.har: "), until(`/See \d+ finding/.test(document.body.innerText)`), settled())
	b.do("see what leaks", click(`//button[contains(., "See ")]`), shows("password_hash"), shows("GET /v1/berths"))
	if clicks > 12 {
		t.Errorf("from the set-up link to the first findings it takes %d clicks", clicks)
	}
	t.Logf("%d clicks", clicks)

	api := filepath.Join(t.TempDir(), "pier.yaml")
	if err := os.WriteFile(api, []byte(strings.ReplaceAll(askedAbout, "title: Quay", "title: Pier")),
		0o600); err != nil {
		t.Fatal(err)
	}
	b.do("begin another, from a description", chromedp.Navigate(s.url+"/new"), shows("Bring an API under review"),
		drop(api),
		shows("drafted from pier.yaml"), click(`(//fieldset[.//strong[text()="Boat.email"]]//label)[4]`),
		shows("1 question answered"))
	b.do("leave it, come back and take an answer back", chromedp.Navigate(s.url+"/new"),
		shows("Begun and not in force"),
		shows("3 questions"), click(`//a[text()="pier"]`), shows("1 question answered"),
		click(`//summary[contains(., "answered")]`),
		button("Take back"), shows("4 questions open"))
	b.do("class a field by itself, and rename the service", button("Next: classes"), shows("Boat.staff_note"),
		chromedp.Click(`//div[contains(@class, "ant-select") and .//input[@aria-label="Class of Boat.staff_note"]]`,
			chromedp.BySearch),
		settled(), chromedp.Click(`//div[contains(@class, "ant-select-item-option") and @title="internal, granted"]`,
			chromedp.BySearch), button("Next: the contract"),
		until(`document.querySelector("textarea")?.value.includes("staff_note: {optional: true}")`))
	b.do("rename", chromedp.SendKeys(`input[maxlength="100"]`, "-2"), button("Rename"),
		shows("New service: pier-2"))
	b.do("edit the text; a fault is told and nothing is lost", chromedp.SendKeys(`textarea`, "\nnonsense: 1\n",
		chromedp.ByQuery),
		button("Put it in force"), shows("problems"),
		until(`document.querySelector("textarea")?.value.includes("nonsense")`))
	b.do("load the page again, and put it in force", chromedp.Reload(), shows("New service: pier-2"),
		button("Put it in force"),
		shows("Now send a recording"), button("Make a token for these commands"),
		shows("The token is in these commands"))
	b.do("nothing is left begun", chromedp.Navigate(s.url+"/new"), shows("Bring an API under review"),
		until(`!document.body.innerText.includes("Begun and not in force")`))
	for _, complaint := range b.said() {
		if !strings.Contains(complaint, "400 (Bad Request)") { // which the fault in the text was answered with
			t.Errorf("the browser complains: %s", complaint)
		}
	}
}

// TestAddressesBecomeOneInTheConsole records addresses that no contract has; one press makes them one endpoint, whose
// findings are one.
func TestAddressesBecomeOneInTheConsole(t *testing.T) {
	s, _ := startDemo(t)
	home := t.TempDir()
	var lines string
	for _, who := range []string{"anna", "bert", "carl", "dora"} {
		lines += strings.Replace(sentence{at: "/v1/people/" + who, body: `{"login":"` + who + `","level":"9","email":"` + who +
			`@sails.example"}`}.line(), "https://quay.example", "http://api.fennick-quay.example", 1)
	}
	file := filepath.Join(home, "people.lines")
	if err := os.WriteFile(file, []byte(lines), 0o600); err != nil {
		t.Fatal(err)
	}
	run(t, home, strings.NewReader(demoPassword+"\n"), "sign-in", s.url, "--email", demoReviewer, "--password-stdin")
	if r := run(t, home, nil, "capture", "upload", file); r.status != 0 || !strings.Contains(r.out, "4 judged") {
		t.Fatalf("uploading: exit %d\n%s%s", r.status, r.out, r.err)
	}
	for _, e := range []expect{
		{"endpoint alike", 0, "GET /v1/people/{"},
	} {
		e.run(t, home)
	}
	b := newBrowser(t)
	b.signIn(s, demoReviewer)
	b.do("the proposal is on the page of endpoints", chromedp.Navigate(s.url+"/endpoints"),
		shows("4 addresses without a contract look like one endpoint"), settled())
	b.do("one press makes them one", chromedp.Click(`//button[.//text()="They are one endpoint"]`, chromedp.BySearch),
		shows("is one endpoint since revision"), until(`!document.body.innerText.includes("look like one endpoint")`))
	r := run(t, home, nil, "finding", "list", "--search", "people", "--format", "json")
	if n := strings.Count(r.out, `"$.email"`); n != 1 || strings.Contains(r.out, "/v1/people/anna") {
		t.Errorf("%d findings of the one: %s%s", n, r.out, r.err)
	}
	quiet(b)
}

// TestDraftsAgree drafts from the same recordings on the command line and over the API: the contracts are the same.
func TestDraftsAgree(t *testing.T) {
	s, dir := startDemo(t)
	for name, files := range map[string][]string{"recordings": {"skipper.har", "visitor.har"},
		"a schema of GraphQL, and a recording": {"harbour.graphql", "visitor.har"}} {
		t.Run(name, func(t *testing.T) { draftsAgree(t, s, dir, files) })
	}
}

func draftsAgree(t *testing.T, s *server, dir string, files []string) {
	home := t.TempDir()
	token := strings.TrimSpace(run(t, home, strings.NewReader(demoPassword+"\n"), "sign-in", s.url, "--email",
		demoReviewer, "--password-stdin", "--print-token").out)
	var body bytes.Buffer
	form, args := multipart.NewWriter(&body), []string{"draft", "--service", "pier"}
	for _, name := range files {
		data, err := os.ReadFile(filepath.Join(dir, name))
		if err != nil {
			t.Fatal(err)
		}
		part, err := form.CreateFormFile("file", name)
		if err != nil {
			t.Fatal(err)
		}
		if _, err := part.Write(data); err != nil {
			t.Fatal(err)
		}
		if option := "--captures"; strings.HasSuffix(name, ".graphql") {
			args = append(args, "--graphql", filepath.Join(dir, name))
		} else {
			args = append(args, option, filepath.Join(dir, name))
		}
	}
	if err := form.Close(); err != nil {
		t.Fatal(err)
	}
	r, err := http.NewRequestWithContext(t.Context(), "POST", s.url+"/api/v1/drafts?service=pier", &body)
	if err != nil {
		t.Fatal(err)
	}
	r.Header.Set("Authorization", "Bearer "+token)
	r.Header.Set("Content-Type", form.FormDataContentType())
	response, err := http.DefaultClient.Do(r)
	if err != nil {
		t.Fatal(err)
	}
	defer response.Body.Close()
	var d wire.FirstDraft
	if err := json.NewDecoder(response.Body).Decode(&d); err != nil || len(d.Files) == 0 {
		t.Fatalf("%s: %v, %+v", response.Status, err, d)
	}
	if local := run(t, home, nil, args...); local.out != d.Files[0].Text || len(d.Questions) < 10 {
		t.Errorf("the command line drafts\n%s\nand the API\n%s", local.out, d.Files[0].Text)
	}
}
