package service

import (
	"bytes"
	"context"
	"errors"
	"io"
	"log/slog"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"inkret/core/contract"
	"inkret/core/finding"
	"inkret/service/base"
	"inkret/service/evidence"
	"inkret/service/findings"
	"inkret/service/people"
	"inkret/service/review"
	"inkret/service/vault"
	"inkret/store"
)

// clock is a clock that tests move.
type clock struct{ now time.Time }

func (c *clock) read() time.Time { return c.now }

const harbour = `inkret: 1
service: quay
audiences: [{name: visitor, recognise: {credentials: none}}, {name: office, recognise: {header: {name: X-Desk, value: "*"}}}]
entities:
  Skipper: {fields: {id: {type: integer, class: internal}, name: {type: string, class: public}, email: {type: string, class: personal}, password_hash: {type: string, class: secret}}}
endpoints:
  - endpoint: GET /skippers/{id}
    team: accounts
    responses: [{entity: Skipper, grants: {id: , name: }}]
`

// secretHash is what no log, listing or picture may show.
const secretHash = "$2b$12$abcdefghijklmnopqrstuuZ5y1B3C4D5E6F7G8H9I0J1K2L3M4N5O"

const secretToken = "made-up-credential-of-the-test"

// recording is a HAR of calls for skippers with these bodies.
func recording(bodies ...string) string {
	var entries []string
	for _, b := range bodies {
		b = strings.NewReplacer(`\`, `\\`, `"`, `\"`).Replace(b)
		entries = append(entries,
			`{"startedDateTime":"2026-05-01T10:00:00Z","request":{"method":"GET","url":"https://q.example/skippers/7?key=`+secretToken+`","headers":[{"name":"Authorization","value":"Bearer `+secretToken+`"},{"name":"X-Desk","value":"2"}]},`+
				`"response":{"status":200,"headers":[{"name":"Content-Type","value":"application/json"},{"name":"Set-Cookie","value":"sid=`+secretToken+`"}],"content":{"text":"`+b+`"}}}`)
	}
	return `{"log":{"version":"1.2","entries":[` + strings.Join(entries, ",") + `]}}`
}

const (
	clean = `{"id":7,"name":"Ada"}`
	leaky = `{"id":7,"name":"Ada","password_hash":"` + secretHash + `"}`
)

type world struct {
	*Service
	t     *testing.T
	dir   string
	clock *clock
	log   *bytes.Buffer
	who   base.Caller
}

// newWorld is a service with a person and the contracts of the harbour.
func newWorld(t *testing.T) *world {
	t.Helper()
	w := &world{t: t, dir: t.TempDir(), clock: &clock{time.Date(2026, 5, 1, 12, 0, 0, 0, time.UTC)},
		log: &bytes.Buffer{}}
	w.open()
	p, err := w.People.AddPerson(t.Context(), "Noor Adeyar", "noor@quay.example", base.Reviewer, "low tide at nine")
	if err != nil {
		t.Fatal(err)
	}
	w.who = base.Caller{Person: p, Key: base.Key{Scope: base.ScopeEverything}}
	if _, changed, err := w.Review.Apply(t.Context(), w.who, "quay",
		review.Proposed{Files: []base.ContractFile{{Name: "quay.yaml", Text: harbour}}}); err != nil || !changed {
		t.Fatalf("applying contracts: changed %v, %v", changed, err)
	}
	return w
}

func (w *world) open() {
	w.t.Helper()
	s, err := Open(w.t.Context(), Options{Dir: w.dir, Now: w.clock.read,
		Log: slog.New(slog.NewTextHandler(w.log, &slog.HandlerOptions{Level: slog.LevelDebug}))})
	if err != nil {
		w.t.Fatal(err)
	}
	w.Service = s
	w.t.Cleanup(func() { s.Close() })
}

func (w *world) upload(name, text string) base.Batch {
	w.t.Helper()
	b, err := w.Evidence.Upload(w.t.Context(), w.who, "quay", name, evidence.Said{}, strings.NewReader(text))
	if err != nil {
		w.t.Fatalf("uploading %s: %v", name, err)
	}
	return b
}

// theHash returns the finding of the leaked hash.
func (w *world) theHash() findings.FindingView {
	w.t.Helper()
	all, _, err := w.Findings.Findings(w.t.Context(), base.FindingFilter{Kinds: []string{"secret-value"}},
		base.Page{Number: 1, Size: 10})
	if err != nil || len(all) != 1 {
		w.t.Fatalf("%d findings of the hash, %v", len(all), err)
	}
	v, err := w.Findings.Finding(w.t.Context(), base.Caller{}, all[0].ID)
	if err != nil {
		w.t.Fatal(err)
	}
	return v
}

func TestARecordingBecomesFindings(t *testing.T) {
	w := newWorld(t)
	b := w.upload("monday.har", recording(leaky, clean, leaky, "<html>"))
	if b.Captures != 4 || b.Judged != 3 || b.Skipped != 1 || b.Findings != 1 || b.NewFindings != 1 ||
		b.BySeverity["critical"] != 1 || b.Problem != "" {
		t.Errorf("batch %+v", b)
	}
	v := w.theHash()
	if v.State != "new" || v.Spots != 2 || v.Captures != 2 || v.Team != "accounts" || v.Audience != "office" ||
		v.Path != "$.password_hash" || v.Sample != "$2b$•••" || v.Service != "quay" {
		t.Errorf("finding %+v", v.Finding)
	}
	if len(v.Evidence) != 2 || v.Evidence[0].Pointer != "/password_hash" || v.Evidence[0].Offset != strings.Index(leaky,
		`"password`) || v.Mend == "" || !strings.Contains(v.GrantText, "entity: Skipper") {
		t.Errorf("evidence %+v, contract line %q", v.Evidence, v.GrantText)
	}
	if len(v.History) != 1 || v.History[0].Kind != "found" || v.History[0].Author != "Noor Adeyar" {
		t.Errorf("history %+v", v.History)
	}
}

func TestFindingsMergeOverBatches(t *testing.T) {
	w := newWorld(t)
	w.upload("monday.har", recording(leaky))
	first := w.clock.now
	w.clock.now = first.Add(24 * time.Hour)
	b := w.upload("tuesday.har", recording(leaky, leaky))
	if b.Findings != 1 || b.NewFindings != 0 {
		t.Errorf("the second batch shows %d findings, %d new", b.Findings, b.NewFindings)
	}
	v := w.theHash()
	if v.Spots != 3 || v.Captures != 3 || !v.FirstSeen.Equal(first) || !v.LastSeen.Equal(w.clock.now) {
		t.Errorf("%d spots in %d captures, first %s, last %s", v.Spots, v.Captures, v.FirstSeen, v.LastSeen)
	}
}

func TestTheSameRecordingAgainChangesNothing(t *testing.T) {
	w := newWorld(t)
	one := w.upload("monday.har", recording(leaky))
	again := w.upload("renamed.har", recording(leaky))
	if !again.Repeated || again.ID != one.ID || again.Name != "monday.har" {
		t.Errorf("the second time gives batch %d (%s), repeated %v; want %d", again.ID, again.Name, again.Repeated,
			one.ID)
	}
	if v := w.theHash(); v.Spots != 1 || len(v.Evidence) != 1 {
		t.Errorf("%d spots, %d pieces of evidence", v.Spots, len(v.Evidence))
	}
	if _, total, _ := w.Evidence.Batches(t.Context(), base.Page{Number: 1, Size: 10}); total != 1 {
		t.Errorf("%d batches are there", total)
	}
	if _, total, _, _ := w.Evidence.Captures(t.Context(), base.CaptureFilter{},
		base.Page{Number: 1, Size: 10}); total != 1 {
		t.Errorf("%d captures are there", total)
	}
}

// broken breaks off after its text.
type broken struct{ r io.Reader }

func (b *broken) Read(p []byte) (int, error) {
	n, err := b.r.Read(p)
	if err == io.EOF {
		err = io.ErrUnexpectedEOF
	}
	return n, err
}

func TestABrokenUploadLeavesNothing(t *testing.T) {
	w := newWorld(t)
	bodies := make([]string, 600) // more than one transaction holds
	for i := range bodies {
		bodies[i] = leaky
	}
	whole := recording(bodies...)
	for _, cut := range []int{100, len(whole) / 2, len(whole) - 5, len(whole)} {
		_, err := w.Evidence.Upload(t.Context(), w.who, "quay", "x.har", evidence.Said{},
			&broken{strings.NewReader(whole[:cut])})
		var p *base.Problem
		if !errors.As(err, &p) || p.Code != base.Invalid || !strings.Contains(p.Next, "nothing of it was kept") {
			t.Errorf("cut at %d: %v", cut, err)
		}
	}
	for what, query := range map[string]func() (int, error){
		"batches": func() (int, error) {
			_, n, err := w.Evidence.Batches(t.Context(), base.Page{Number: 1, Size: 1})
			return n, err
		},
		"captures": func() (int, error) {
			_, n, _, err := w.Evidence.Captures(t.Context(), base.CaptureFilter{}, base.Page{Number: 1, Size: 1})
			return n, err
		},
		"findings": func() (int, error) {
			all, _, err := w.Findings.Findings(t.Context(), base.FindingFilter{}, base.Page{Number: 1, Size: 10})
			return len(all), err
		},
	} {
		if n, err := query(); n != 0 || err != nil {
			t.Errorf("%d %s are left, %v", n, what, err)
		}
	}
	if b := w.upload("x.har", whole); b.Captures != 600 || b.Repeated {
		t.Errorf("the retry takes in %d captures, repeated %v", b.Captures, b.Repeated)
	}
}

func TestARecordingThatEndsEarlyIsTakenInUpToThere(t *testing.T) {
	w := newWorld(t)
	whole := recording(leaky, clean)
	b := w.upload("cut.har", whole[:len(whole)-40])
	if b.Captures != 1 || b.Findings != 1 || !strings.Contains(b.Problem, "the file ends in the middle") {
		t.Errorf("%d captures, %d findings, problem %q", b.Captures, b.Findings, b.Problem)
	}
	for text, want := range map[string]string{"<html>": "this is no recording", "": "the file is empty",
		`{"log":{"version":"3.0"}}`: `HAR version "3.0"`} {
		if _, err := w.Evidence.Upload(t.Context(), w.who, "quay", "x", evidence.Said{},
			strings.NewReader(text)); err == nil ||
			!strings.Contains(err.Error(), want) {
			t.Errorf("%q gives %v, want %q", text, err, want)
		}
	}
}

func TestUploadsThatCannotBe(t *testing.T) {
	w := newWorld(t)
	for want, f := range map[string]func() error{
		`there is no service "nowhere"`: func() error {
			_, err := w.Evidence.Upload(t.Context(), w.who, "nowhere", "x", evidence.Said{}, strings.NewReader("{}"))
			return err
		},
		"needs a name": func() error {
			_, err := w.Evidence.Upload(t.Context(), w.who, "quay", " ", evidence.Said{}, strings.NewReader("{}"))
			return err
		},
		`has no audience "pilot"`: func() error {
			_, err := w.Evidence.Upload(t.Context(), w.who, "quay", "x", evidence.Said{Audience: "pilot"},
				strings.NewReader("{}"))
			return err
		},
		"context canceled": func() error {
			ctx, cancel := context.WithCancel(t.Context())
			cancel()
			_, err := w.Evidence.Upload(ctx, w.who, "quay", "x", evidence.Said{}, strings.NewReader(recording(clean)))
			return err
		},
	} {
		if err := f(); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%v, want %q", err, want)
		}
	}
}

// TestNothingIsKeptInClear looks for what was leaked, and for credentials, in
// all files of the data folder but the key, in the log, and in what is shown.
func TestNothingIsKeptInClear(t *testing.T) {
	w := newWorld(t)
	w.upload("monday.har", recording(leaky))
	view, err := w.Evidence.Capture(t.Context(), 1)
	if err != nil {
		t.Fatal(err)
	}
	if view.JudgedBy != "contract" || view.Body == nil || len(view.Body.Children) != 3 {
		t.Fatalf("judged by %q, body %+v", view.JudgedBy, view.Body)
	}
	shown := view.Command + view.URL
	for _, h := range append(view.RequestHeader, view.ResponseHeader...) {
		shown += h.Name + ": " + h.Value + "\n"
	}
	for _, c := range view.Body.Children {
		shown += c.Name + " " + c.Value + "\n"
	}
	if !strings.Contains(shown, "Bearer •••") || !strings.Contains(shown, "key=•••") ||
		!strings.Contains(shown, "password_hash $2b$•••") || !strings.Contains(shown, "name Ada") {
		t.Errorf("shown:\n%s", shown)
	}
	places := map[string]string{"what is shown": shown, "the log": w.log.String()}
	if err := w.Close(); err != nil {
		t.Fatal(err)
	}
	files, err := filepath.Glob(filepath.Join(w.dir, "*"))
	if err != nil || len(files) < 2 {
		t.Fatalf("%d files in the data folder, %v", len(files), err)
	}
	for _, f := range files {
		data, err := os.ReadFile(f)
		if err != nil {
			t.Fatal(err)
		}
		places[f] = string(data)
	}
	for where, text := range places {
		for _, secret := range []string{secretHash[7:], secretToken, "low tide at nine"} {
			if strings.Contains(text, secret) {
				t.Errorf("%q is in %s", secret, where)
			}
		}
	}
}

func TestTheKeyFile(t *testing.T) {
	w := newWorld(t)
	w.upload("monday.har", recording(leaky))
	path := filepath.Join(w.dir, vault.KeyName)
	info, err := os.Stat(path)
	if err != nil || info.Mode().Perm() != 0o600 {
		t.Fatalf("the key file has mode %v, %v", info.Mode(), err)
	}
	key, _ := os.ReadFile(path)
	w.Close()
	for want, change := range map[string]func() error{
		"is missing": func() error { return os.RemoveAll(path) },
		"is the key of another": func() error {
			return os.WriteFile(path, []byte(strings.Repeat("ab", 32)),
				0o600)
		},
		"is no key file":              func() error { return os.WriteFile(path, []byte("hello"), 0o600) },
		"the key file cannot be read": func() error { os.Remove(path); return os.Mkdir(path, 0o700) },
	} {
		if err := change(); err != nil {
			t.Fatal(err)
		}
		if s, err := Open(t.Context(), Options{Dir: w.dir}); err == nil || !strings.Contains(err.Error(), want) {
			if s != nil {
				s.Close()
			}
			t.Errorf("opening gives %v, want %q", err, want)
		}
		os.Remove(path)
	}
	if err := os.WriteFile(path, key, 0o600); err != nil {
		t.Fatal(err)
	}
	w.open()
	if v, err := w.Evidence.Capture(t.Context(), 1); err != nil || v.Body == nil {
		t.Errorf("with its key back, the capture gives %v", err)
	}
}

func TestAFindingMovesAlong(t *testing.T) {
	w := newWorld(t)
	w.upload("monday.har", recording(leaky))
	id := w.theHash().ID
	move := func(to finding.State, comment, until string) error {
		_, err := w.Findings.Move(t.Context(), w.who, id, finding.Move{To: to, Comment: comment, Until: until})
		return err
	}
	var p *base.Problem
	if err := move(finding.Closed, "", ""); !errors.As(err, &p) || p.Code != base.Conflict {
		t.Errorf("closing by hand gives %v", err)
	}
	if err := move(finding.Waived, "until the kiosk is gone", "tomorrow"); !errors.As(err, &p) ||
		p.Code != base.Invalid {
		t.Errorf("a day that is none gives %v", err)
	}
	if err := move(finding.InRepair, " taken by accounts ", ""); err != nil {
		t.Fatal(err)
	}
	if _, err := w.Findings.Comment(t.Context(), w.who, id, "seen in the logs too"); err != nil {
		t.Fatal(err)
	}
	if _, err := w.Findings.Comment(t.Context(), w.who, id, "  "); err == nil {
		t.Error("an empty comment is taken")
	}
	v := w.theHash()
	if v.State != "in-repair" || len(v.History) != 3 || v.History[1].Was != "new" ||
		v.History[1].Comment != "taken by accounts" || v.History[2].Kind != "comment" {
		t.Errorf("state %s, history %+v", v.State, v.History)
	}
	if _, err := w.Findings.Move(t.Context(), w.who, "0000000000000000",
		finding.Move{To: finding.Confirmed}); !errors.As(err,
		&p) || p.Code != base.NotFound {
		t.Errorf("moving what is not there gives %v", err)
	}
}

func TestAWaiverThatRanOutReturns(t *testing.T) {
	w := newWorld(t)
	w.upload("monday.har", recording(leaky))
	id := w.theHash().ID
	w.waive(w.who, id, "2026-05-02")
	w.waive(w.person("Teodor", base.Lead), id, "")
	w.clock.now = w.clock.now.Add(24 * time.Hour) // its last day
	w.upload("tuesday.har", recording(leaky, clean))
	if v := w.theHash(); v.State != "waived" {
		t.Errorf("on the last day it is %s", v.State)
	}
	w.clock.now = w.clock.now.Add(24 * time.Hour)
	w.upload("wednesday.har", recording(leaky, clean, clean))
	if v := w.theHash(); v.State != "returned" || v.Until != "" || v.History[len(v.History)-1].Became != "returned" {
		t.Errorf("after it, it is %s until %q", v.State, v.Until)
	}
}

func TestContractsAreApplied(t *testing.T) {
	w := newWorld(t)
	files := []base.ContractFile{{Name: "quay.yaml", Text: harbour}}
	if r, changed, err := w.Review.Apply(t.Context(), w.who, "quay", review.Proposed{Files: files}); err != nil ||
		changed ||
		r.Number != 1 {
		t.Errorf("the same again: revision %d, changed %v, %v", r.Number, changed, err)
	}
	files[0].Text = strings.Replace(harbour, "grants: {id: , name: }", "grants: {id: , called: name}", 1)
	if r, changed, err := w.Review.Apply(t.Context(), w.who, "quay",
		review.Proposed{Files: files, Reason: "visitors write to them"}); err != nil || !changed || r.Number != 2 {
		t.Errorf("changed: revision %d, changed %v, %v", r.Number, changed, err)
	}
	if r, err := w.Review.Export(t.Context(), "quay"); err != nil || len(r.Files) != 1 || r.Files[0] != files[0] ||
		r.Reason != "visitors write to them" || r.Author != "Noor Adeyar" {
		t.Errorf("exported %+v, %v", r, err)
	}
	files[0].Text = strings.Replace(harbour, "Skipper, grants", "Skiper, grants", 1)
	_, _, err := w.Review.Apply(t.Context(), w.who, "quay", review.Proposed{Files: files})
	var problems contract.Problems
	if !errors.As(err, &problems) || problems[0].Near != "Skipper" {
		t.Errorf("a faulty file gives %v", err)
	}
	if _, _, err := w.Review.Apply(t.Context(), w.who, "other",
		review.Proposed{Files: []base.ContractFile{{Name: "a", Text: harbour}}}); err == nil ||
		!strings.Contains(err.Error(), `of the service "quay", not of "other"`) {
		t.Errorf("another service's contract gives %v", err)
	}
	if _, _, err := w.Review.Apply(t.Context(), w.who, "quay",
		review.Proposed{Files: []base.ContractFile{{Name: "a", Text: harbour},
			{Name: "a", Text: "x"}}}); err == nil {
		t.Error("two files of one name are taken")
	}
}

func TestEndpoints(t *testing.T) {
	w := newWorld(t)
	text := recording(leaky)
	w.upload("monday.har", text)
	w.upload("boats.har", strings.ReplaceAll(text, "/skippers/7", "/boats/12345"))
	all, total, err := w.Review.Endpoints(t.Context(), base.EndpointFilter{Sort: "endpoint"},
		base.Page{Number: 1, Size: 10})
	if err != nil || total != 2 || all[0].Text != "GET /boats/{}" || all[0].Known ||
		all[1].Text != "GET /skippers/{id}" || !all[1].Known || all[1].Captures != 1 || all[1].Open != 1 {
		t.Fatalf("endpoints %+v, %v", all, err)
	}
	e, err := w.Review.Endpoint(t.Context(), all[1].ID)
	if err != nil || e.Contract == nil || !strings.HasPrefix(strings.TrimSpace(e.Text),
		"- endpoint: GET /skippers/{id}") || !strings.HasSuffix(e.Text, "name: }}]") {
		t.Errorf("contract %v, text %q, %v", e.Contract, e.Text, err)
	}
	if e, err = w.Review.Endpoint(t.Context(), all[0].ID); err != nil || e.Contract != nil {
		t.Errorf("an endpoint without a contract has %v, %v", e.Contract, err)
	}
	no := false
	if some, _, _ := w.Review.Endpoints(t.Context(), base.EndpointFilter{Known: &no, Words: "boat"},
		base.Page{Number: 1, Size: 10}); len(some) != 1 {
		t.Errorf("%d endpoints without a contract are found", len(some))
	}
	if some, _, _ := w.Review.Endpoints(t.Context(), base.EndpointFilter{Words: "100%"},
		base.Page{Number: 1, Size: 10}); len(some) != 0 {
		t.Errorf("a percent sign finds %d endpoints", len(some))
	}
}

// TestEveryFindingHasItsEndpoint checks that a finding from a capture whose body was skipped leads to an endpoint,
// and that captures that are only skipped make none.
func TestEveryFindingHasItsEndpoint(t *testing.T) {
	w := newWorld(t)
	text := strings.ReplaceAll(recording(clean), "application/json", "image/png")
	w.upload("a.har", strings.ReplaceAll(text, "/skippers/7?key=", "/photos/1?notify=ada@quay.example&key="))
	w.upload("b.har", strings.ReplaceAll(text, "/skippers/7?key=", "/logos/1?key="))
	all, _, err := w.Findings.Findings(t.Context(), base.FindingFilter{}, base.Page{Number: 1, Size: 10})
	if err != nil || len(all) != 1 || all[0].Kind != "sensitive-in-url" {
		t.Fatalf("findings %+v, %v", all, err)
	}
	if e, err := w.Review.Endpoint(t.Context(), all[0].EndpointID); err != nil || e.Endpoint.Text != "GET /photos/{}" {
		t.Errorf("its endpoint is %+v, %v", e.Endpoint, err)
	}
	captures, _, _, err := w.Evidence.Captures(t.Context(), base.CaptureFilter{}, base.Page{Number: 1, Size: 10})
	if err != nil || len(captures) != 2 || captures[0].EndpointID != "" || captures[1].Endpoint != "GET /photos/{}" {
		t.Errorf("captures %+v, %v", captures, err)
	}
}

func TestFindingsAreFiltered(t *testing.T) {
	w := newWorld(t)
	b := w.upload("a.har", recording(leaky, `{"id":7,"name":"Ada","email":"ada@quay.example"}`,
		`{"id":7,"name":"Ada","rank":1}`))
	for _, c := range []struct {
		name string
		by   base.FindingFilter
		want int
	}{
		{"all", base.FindingFilter{}, 3}, {"a state", base.FindingFilter{States: []string{"new"}}, 3},
		{"another state", base.FindingFilter{States: []string{"waived", "closed"}}, 0},
		{"severities", base.FindingFilter{Severities: []int{5, 4}}, 2},
		{"a kind", base.FindingFilter{Kinds: []string{"unexpected-field"}}, 1},
		{"the team", base.FindingFilter{Team: "accounts"},
			3},
		{"an audience", base.FindingFilter{Audience: "visitor"}, 0},
		{"a field", base.FindingFilter{Entity: "Skipper", Field: "email"}, 1},
		{"the batch", base.FindingFilter{Batch: b.ID}, 3},
		{"another batch", base.FindingFilter{Batch: b.ID + 1}, 0},
		{"words", base.FindingFilter{Words: "skippers EMAIL"}, 1},
		{"words that are a pattern", base.FindingFilter{Words: "_"}, 1},
	} {
		all, counts, err := w.Findings.Findings(t.Context(), c.by, base.Page{Number: 1, Size: 10})
		total := 0
		for _, n := range counts {
			total += n
		}
		if err != nil || len(all) != c.want || total != c.want {
			t.Errorf("by %s: %d listed, %d counted, %v; want %d", c.name, len(all), total, err, c.want)
		}
	}
	sorted, _, _ := w.Findings.Findings(t.Context(), base.FindingFilter{Sort: "severity"},
		base.Page{Number: 1, Size: 1})
	if len(sorted) != 1 || sorted[0].Kind != "unexpected-field" {
		t.Errorf("the least grave is %+v", sorted)
	}
	if odd, _, err := w.Findings.Findings(t.Context(), base.FindingFilter{Sort: "id; DROP TABLE findings"},
		base.Page{Number: 1, Size: 10}); err != nil || len(odd) != 3 {
		t.Errorf("an unknown sort key gives %d, %v", len(odd), err)
	}
}

func TestAccess(t *testing.T) {
	w := newWorld(t)
	ctx := t.Context()
	for _, wrong := range [][2]string{{"noor@quay.example", "wrong password"},
		{"nobody@quay.example", "low tide at nine"}, {"noor@quay.example", ""}} {
		if _, _, err := w.People.SignIn(ctx, wrong[0], wrong[1], ""); err == nil ||
			err.Error() != "e-mail address or password is wrong" {
			t.Errorf("signing in as %v gives %v", wrong, err)
		}
	}
	who, secret, err := w.People.SignIn(ctx, " NOOR@quay.example", "low tide at nine", "")
	if err != nil || who.Name != "Noor Adeyar" {
		t.Fatalf("signed in as %+v, %v", who, err)
	}
	if c, err := w.People.Authenticate(ctx, secret); err != nil || c.ID != who.ID {
		t.Errorf("the session is of %+v, %v", c, err)
	}
	made, token, err := w.People.NewToken(ctx, who, who.Person, base.Key{Name: "pipeline"}, 48*time.Hour)
	if err != nil || !strings.HasPrefix(token, "inkret_") {
		t.Fatalf("token %q, %v", token, err)
	}
	if all, err := w.People.Tokens(ctx, who); err != nil || len(all) != 1 || all[0].Name != "pipeline" {
		t.Errorf("tokens %+v, %v", all, err)
	}
	for range 7 { // somebody uses the session every seven hours
		w.clock.now = w.clock.now.Add(7 * time.Hour)
		if _, err := w.People.Authenticate(ctx, secret); err != nil {
			t.Errorf("the session, still good, gives %v", err)
		}
	}
	if _, err := w.People.Authenticate(ctx, token); err == nil ||
		!strings.Contains(err.Error(), "the token ended on 2026-05-03") {
		t.Errorf("an ended token gives %v", err)
	}
	if _, idle, err := w.People.SignIn(ctx, "noor@quay.example", "low tide at nine", ""); err != nil {
		t.Error(err)
	} else {
		w.clock.now = w.clock.now.Add(12*time.Hour + time.Minute)
		if _, err := w.People.Authenticate(ctx, idle); err == nil ||
			!strings.Contains(err.Error(), "nobody used it for 12 hours") {
			t.Errorf("a session that nobody used gives %v", err)
		}
		w.clock.now = w.clock.now.Add(-12*time.Hour - time.Minute)
	}
	if err := w.People.EndToken(ctx, base.Caller{Person: store.Person{ID: who.ID + 1}}, made.Key.ID); err == nil {
		t.Error("somebody else's token can be ended")
	}
	if err := w.People.EndToken(ctx, who, who.Key.ID); err != nil {
		t.Fatal(err)
	}
	if _, err := w.People.Authenticate(ctx, secret); err == nil {
		t.Error("an ended session is still good")
	}
	for role, may := range map[string]bool{base.Viewer: false, base.Reviewer: true, base.Lead: true,
		base.Administrator: true, "": false,
		"root": false} {
		if base.May(role, base.Reviewer) != may {
			t.Errorf("%q may do what needs a reviewer: %v", role, !may)
		}
	}
}

func TestOneTimeCodes(t *testing.T) {
	clock := &clock{time.Date(2026, 5, 1, 12, 0, 0, 0, time.UTC)}
	s, err := Open(t.Context(), Options{Dir: t.TempDir(), Now: clock.read})
	if err != nil {
		t.Fatal(err)
	}
	defer s.Close()
	ctx := t.Context()
	stale, _ := s.People.SetupCode(ctx)
	code, err := s.People.SetupCode(ctx)
	if err != nil || code == "" || code == stale {
		t.Fatalf("codes %q and %q, %v", stale, code, err)
	}
	for want, f := range map[string]func() error{
		"was used already or has ended": func() error {
			_, _, err := s.People.SetUp(ctx, people.SettingUp{Code: stale, Email: "a@b.example", Name: "A",
				Password: "long enough for it"})
			return err
		},
		"at least 12 are needed": func() error {
			_, _, err := s.People.SetUp(ctx, people.SettingUp{Code: code, Email: "a@b.example", Name: "A",
				Password: "short"})
			return err
		},
		"a name is needed": func() error {
			_, _, err := s.People.SetUp(ctx, people.SettingUp{Code: code, Email: "a@b.example", Name: " ",
				Password: "long enough for it"})
			return err
		},
		"this is no e-mail address": func() error {
			_, _, err := s.People.SetUp(ctx, people.SettingUp{Code: code, Email: "a", Name: "A",
				Password: "long enough for it"})
			return err
		},
		"the first person needs an e-mail": func() error {
			_, _, err := s.People.SetUp(ctx, people.SettingUp{Code: code, Email: "", Name: "A",
				Password: "long enough for it"})
			return err
		},
	} {
		if err := f(); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%v, want %q", err, want)
		}
	}
	first, _, err := s.People.SetUp(ctx, people.SettingUp{Code: code, Email: "a@b.example", Name: "Ada",
		Password: "long enough for it"})
	if err != nil || first.Role != base.Administrator {
		t.Fatalf("the first person is %+v, %v", first.Person, err)
	}
	if _, _, err := s.People.SetUp(ctx, people.SettingUp{Code: code, Email: "c@b.example", Name: "C",
		Password: "long enough for it"}); err == nil {
		t.Error("a code works twice")
	}
	if again, err := s.People.SetupCode(ctx); err != nil || again != "" {
		t.Errorf("with somebody there, a code %q is made, %v", again, err)
	}
	invited, link, err := s.People.Invite(ctx, base.Caller{}, "b@b.example", base.Viewer)
	if err != nil {
		t.Fatal(err)
	}
	if _, _, err := s.People.Invite(ctx, base.Caller{}, "B@b.example", base.Viewer); err == nil {
		t.Error("somebody can be invited twice")
	}
	if _, _, err := s.People.SignIn(ctx, "b@b.example", "", ""); err == nil {
		t.Error("somebody who has not set up can sign in")
	}
	clock.now = clock.now.Add(3 * 24 * time.Hour)
	if _, _, err := s.People.SetUp(ctx, people.SettingUp{Code: link, Email: "", Name: "Bo",
		Password: "long enough for it"}); err == nil {
		t.Error("a code works after its end")
	}
	clock.now = clock.now.Add(-time.Hour)
	if who, _, err := s.People.SetUp(ctx, people.SettingUp{Code: link, Email: "", Name: "Bo",
		Password: "long enough for it"}); err != nil || who.ID != invited.ID || who.Role != base.Viewer ||
		who.Email != "b@b.example" {
		t.Errorf("the invited person is %+v, %v", who.Person, err)
	}
}

func TestHome(t *testing.T) {
	w := newWorld(t)
	w.upload("a.har", recording(leaky))
	w.upload("b.har", strings.ReplaceAll(recording(clean), "/skippers/7", "/boats/1"))
	h, err := w.Findings.Home(t.Context(), w.who)
	if err != nil || h.Severities[5] != 1 || h.States["new"] != 2 || len(h.Urgent) != 2 || h.Urgent[0].Severity != 5 ||
		h.UnknownTotal != 1 || len(h.Batches) != 2 || len(h.Services) != 1 || h.Services[0].Open != 2 {
		t.Errorf("home %+v, %v", h, err)
	}
}

// alone lets one person decide, in tests that are about something else.
func (w *world) alone() {
	w.t.Helper()
	admin := w.person("Alma", base.Administrator)
	if err := w.Evidence.SetSecondPerson(w.t.Context(), admin, "quay", false, "a test of something else"); err != nil {
		w.t.Fatal(err)
	}
}
