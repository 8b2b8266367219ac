package httpapi

import (
	"bytes"
	"encoding/json"
	"fmt"
	"mime/multipart"
	"strings"
	"testing"

	"inkret/api/wire"
)

// form packs files into a form, and returns its type.
func form(t *testing.T, files map[string]string) (string, string) {
	t.Helper()
	var b bytes.Buffer
	w := multipart.NewWriter(&b)
	for name, text := range files {
		part, err := w.CreateFormFile("file", name)
		if err != nil {
			t.Fatal(err)
		}
		if _, err := part.Write([]byte(text)); err != nil {
			t.Fatal(err)
		}
	}
	if err := w.Close(); err != nil {
		t.Fatal(err)
	}
	return b.String(), w.FormDataContentType()
}

// begun drafts from files, as a reviewer.
func begun(t *testing.T, s *site, query string, files map[string]string, status int) (d wire.FirstDraft, text string) {
	t.Helper()
	body, media := form(t, files)
	a := s.call(t, "POST", "/api/v1/drafts"+query, s.tokens["reviewer"], body, "Content-Type", media)
	if a.status != status {
		t.Fatalf("drafting from %v: %d %s", files, a.status, a.body)
	}
	if status == 200 {
		if err := json.Unmarshal([]byte(a.body), &d); err != nil {
			t.Fatal(err)
		}
	}
	return d, a.body
}

const heard = `{"request":{"method":"GET","url":"https://api.quay.example/boats/7"},"response":{"status":200,"headers":[{"name":"Content-Type","value":"application/json"}],"body":"{\"id\":7,\"label\":\"A\",\"email\":\"bo@quay.example\",\"staff_note\":\"late\"}"}}
`

// TestAServiceBeginsFromFiles drafts from a recording, answers, and puts the outcome in force; what it was drafted from
// is kept sealed, and holds no value.
func TestAServiceBeginsFromFiles(t *testing.T) {
	s := newSite(t)
	d, text := begun(t, s, "", map[string]string{"monday.lines": heard}, 200)
	if d.Service != "quay" || d.Endpoints != 1 || d.Recordings != 1 || len(d.Questions) != 3 || len(d.Files) != 1 ||
		strings.Contains(text, "bo@quay") || strings.Contains(text, "late") {
		t.Fatalf("drafted is %s", text)
	}
	at := fmt.Sprintf("/api/v1/drafts/%d", d.ID)
	personal := d.Questions[0]
	if personal.Suggestion != "personal, left out" || personal.Concerns[0] != "Boat.email" {
		t.Errorf("asked first is %+v", personal)
	}
	answered := ask[wire.FirstDraft](t, s, "PATCH", at, "reviewer", jsonOf(wire.DraftAnswers{
		Answers: &[]wire.DraftAnswer{{Question: personal.ID, Answer: "personal, granted"},
			{Question: "field Boat.staff_note", Answer: "internal, granted"}}}), 200)
	if answered.Answered != 1 || len(answered.Questions) != 1 || !strings.Contains(answered.Files[0].Text,
		"      staff_note:\n") ||
		!strings.Contains(answered.Files[0].Text, "      email:\n") {
		t.Errorf("after two answers: %+v", answered)
	}
	back := ask[wire.FirstDraft](t, s, "PATCH", at, "reviewer", jsonOf(wire.DraftAnswers{
		Answers: &[]wire.DraftAnswer{{Question: personal.ID, Answer: ""}}}), 200)
	if len(back.Questions) != 2 {
		t.Errorf("taken back: %d questions", len(back.Questions))
	}
	for _, bad := range []string{`{"answers":[{"question":"x","answer":"yes"}]}`,
		`{"answers":[{"question":"x","answer":"perhaps"}]}`,
		`{"answers":[{"question":"` + personal.ID + `","answer":"yes"}]}`, `{"service":"a b"}`} {
		if a := s.call(t, "PATCH", at, s.tokens["reviewer"], bad); a.status != 400 && a.status != 422 {
			t.Errorf("%s: %d %s", bad, a.status, a.body)
		}
	}
	if a := s.call(t, "PATCH", at, s.tokens["viewer"], `{"as_suggested":true}`); a.status != 403 {
		t.Errorf("a viewer answers: %d", a.status)
	}
	all := ask[wire.FirstDraft](t, s, "PATCH", at, "reviewer", `{"as_suggested":true,"service":"harbour"}`, 200)
	if len(all.Questions) != 0 || all.Service != "harbour" || !strings.Contains(all.Files[0].Text, "service: harbour") {
		t.Errorf("as suggested: %+v", all)
	}
	if again := ask[wire.FirstDraft](t, s, "GET", at, "viewer", "", 200); jsonOf(again) != jsonOf(all) {
		t.Errorf("read again it is %s\nwas %s", jsonOf(again), jsonOf(all))
	}
	if lines := ask[[]wire.FirstDraftLine](t, s, "GET", "/api/v1/drafts", "viewer", "", 200); len(lines) != 1 ||
		lines[0].Open != 0 {
		t.Errorf("listed are %+v", lines)
	}
	r := ask[wire.Revision](t, s, "POST", at+"/contracts", "reviewer", `{}`, 200)
	if r.Service != "harbour" || r.Number != 1 || !strings.Contains(*r.Reason, "monday.lines") {
		t.Errorf("in force is %+v", r)
	}
	if a := s.call(t, "GET", at, s.tokens["viewer"], ""); a.status != 404 {
		t.Errorf("the draft is still there: %d", a.status)
	}
	if _, text := begun(t, s, "?service=harbour", map[string]string{"a.lines": heard}, 409); !strings.Contains(text,
		"under review already") {
		t.Errorf("a second service of the name: %s", text)
	}
}

// TestAServiceBeginsFromAnything drafts from descriptions, SQL, several files, another service, and nothing.
func TestAServiceBeginsFromAnything(t *testing.T) {
	s := newSite(t)
	ask[wire.Revision](t, s, "PUT", "/api/v1/services/quay/contracts", "reviewer", quayContract, 200)
	const api = "openapi: 3.1.0\ninfo: {title: Pier, version: '1'}\npaths: {/b: {get: {responses: {'200': {content: " +
		"{application/json: {schema: {properties: {id: {type: integer}}}}}}}}}}\n"
	for name, c := range map[string]struct {
		query    string
		files    map[string]string
		status   int
		entities int
		says     string
	}{
		"description": {"", map[string]string{"api.yaml": api}, 200, 1, "GET /b"},
		"JSON": {"?service=of-json",
			map[string]string{"api.json": `{"openapi":"3.0.0","info":{"title":"x"},"paths":{"/b":{"get":{"responses":{"200":{"content":{"application/json":{"schema":{"properties":{"id":{"type":"integer"}}}}}}}}}}}`}, 200, 1, "GET /b"},
		"SQL": {"?service=store", map[string]string{"a.sql": "CREATE TABLE boats (id int, owner text);"},
			200, 1, "stored_as: boats"},
		"both": {"?service=both", map[string]string{"api.yaml": api, "a.lines": heard}, 200, 2,
			"GET /boats/{boat_id}"},
		"another service": {"?like=quay&service=quay2", nil, 200, 1, "service: quay2"},
		"nothing":         {"?service=fresh", nil, 200, 1, "service: fresh"},
		"no such service": {"?like=none", nil, 404, 0, "none"},
		"two of them":     {"", map[string]string{"a.yaml": api, "b.yaml": api}, 400, 0, "second description"},
		"a picture":       {"", map[string]string{"a.png": "\x89PNG\r\n\x1a\n"}, 415, 0, "was expected"},
		"empty":           {"", map[string]string{"a.har": ""}, 415, 0, "empty"},
		"no JSON": {"", map[string]string{"a.lines": strings.ReplaceAll(heard, "application/json",
			"image/png")}, 400, 0, "nothing to draft from"},
		"broken":   {"", map[string]string{"a.yaml": "openapi: 3.1.0\n  a: [\n"}, 400, 0, "a.yaml"},
		"bad name": {"?service=a%20b", map[string]string{"a.yaml": api}, 400, 0, "cannot be the name"},
	} {
		a, text := begun(t, s, c.query, c.files, c.status)
		if a.Entities != c.entities || !strings.Contains(text, c.says) {
			t.Errorf("%s: %d entities, %s", name, a.Entities, text)
		}
		if c.status == 200 {
			ask[wire.Revision](t, s, "POST", fmt.Sprintf("/api/v1/drafts/%d/contracts", a.ID), "reviewer",
				jsonOf(wire.ApplyDraft{Reason: &name}), 200)
		}
	}
}
