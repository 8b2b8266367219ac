package store

import (
	"strings"
	"testing"
	"time"

	"inkret/core/finding"
)

// quay is a store with a service whose batches a test adds.
type quay struct {
	*Store
	t   *testing.T
	now time.Time
}

func newQuay(t *testing.T) *quay {
	t.Helper()
	s := open(t, t.TempDir())
	q := &quay{s, t, time.Date(2026, 5, 1, 9, 0, 0, 0, time.UTC)}
	if _, err := s.Contracts.AddRevision(t.Context(), Revision{Service: "quay", Created: q.now}, &Effect{},
		nil); err != nil {
		t.Fatal(err)
	}
	return q
}

// shown is a finding as a batch shows it, with prints of values.
func shown(id string, prints ...uint64) Finding {
	return Finding{ID: id, Service: "quay", Kind: "sensitive-field", Severity: 4, Endpoint: "GET /" + id,
		EndpointID: EndpointID("quay", "GET /"+id), Audience: "visitor", Direction: "response", Status: "2XX",
		Path: "$." + id, Prints: prints,
		Facts: finding.Facts{Spots: 1, Captures: 1}}
}

// batch adds a batch with a capture for each of its findings, and one that has none.
func (q *quay) batch(digest string, covered map[string]finding.Covered, findings ...Finding) Batch {
	q.t.Helper()
	q.now = q.now.Add(time.Hour)
	in, err := q.Captures.Begin(q.t.Context(), Batch{Service: "quay", Name: digest, Author: "Noor", Started: q.now})
	if err != nil {
		q.t.Fatal(err)
	}
	for i := range findings {
		findings[i].Shown = q.now
	}
	for i, f := range append(findings, Finding{}) {
		c, occurrences := Capture{Entry: i, Method: "GET", URL: "https://q.example/" + f.ID, EndpointID: f.EndpointID,
			Status: 200 + i*100, Bytes: 10 * (i + 1), Sealed: []byte{1}, Holds: HoldsBodies, Started: q.now,
			Recorded: q.now},
			[]Occurrence(nil)
		if f.ID != "" {
			occurrences = []Occurrence{{Finding: f.ID, Spots: 1, Bytes: 3}}
		}
		if err := in.Add(q.t.Context(), c, occurrences); err != nil {
			q.t.Fatal(err)
		}
	}
	b, err := in.Finish(q.t.Context(), Batch{Service: "quay", Name: digest, Digest: digest, Author: "Noor",
		Started: q.now, Captures: len(findings) + 1}, Evidence{Findings: findings, Covered: covered, At: q.now}, nil)
	if err != nil {
		q.t.Fatal(err)
	}
	return b
}

func (q *quay) state(id string) string {
	q.t.Helper()
	f, err := q.Findings.Finding(q.t.Context(), id)
	if err != nil {
		return err.Error()
	}
	return f.State
}

func (q *quay) move(id, to string) {
	q.t.Helper()
	c := Change{At: q.now, Author: "Noor"}
	refused, err := q.Findings.ChangeFindings(q.t.Context(), &c, []string{id}, func(was Standing) (Standing,
		string) {
		was.State = to
		return was, ""
	}, func(*Change) []TrailEntry { return nil })
	if err != nil || len(refused) > 0 && refused[0].Why != "it is so already" {
		q.t.Fatal(refused, err)
	}
}

// TestProofsCloseWhatAwaitsThem checks that only findings that await proof are closed, that the capture is linked,
// and that a withdrawn batch takes its proof back.
func TestProofsCloseWhatAwaitsThem(t *testing.T) {
	q := newQuay(t)
	q.batch("one", nil, shown("a"), shown("b"))
	q.move("a", "awaiting-proof")
	waiting, err := q.Findings.Awaiting(t.Context(), "quay")
	if err != nil || len(waiting) != 1 || waiting[0].ID != "a" ||
		waiting[0].Path != "$.a" {
		t.Fatalf("awaiting are %+v, %v", waiting, err)
	}
	if other, _ := q.Findings.Awaiting(t.Context(), "another"); len(other) != 0 {
		t.Errorf("of another service await %+v", other)
	}
	proof := q.batch("two", map[string]finding.Covered{
		"a":    {Captures: 1, First: 1, By: finding.Seen, Last: q.now.Add(time.Minute)},
		"b":    {Captures: 1, First: 0, By: finding.Seen, Last: q.now.Add(time.Minute)},
		"gone": {Captures: 1, Last: q.now.Add(time.Minute)}}, shown("c"))
	if q.state("a") != "closed" || q.state("b") != "new" {
		t.Errorf("a is %s and b is %s", q.state("a"), q.state("b"))
	}
	history, err := q.Findings.Events(t.Context(), "a")
	if err != nil {
		t.Fatal(err)
	}
	last := history[len(history)-1]
	c, err := q.Captures.Capture(t.Context(), last.CaptureID)
	if err != nil || last.Was != "awaiting-proof" || last.BatchID != proof.ID || c.BatchID != proof.ID || c.Entry != 1 {
		t.Errorf("proven by %+v, capture %+v, %v", last, c, err)
	}
	if err := q.Captures.Withdraw(t.Context(), proof.ID, "Noor", q.now, TrailEntry{At: q.now, Author: "Noor",
		Action: "withdraw batch", Subject: "batch"}); err != nil {
		t.Fatal(err)
	}
	if q.state("a") != "awaiting-proof" || !strings.Contains(q.state("c"), ErrNotFound.Error()) {
		t.Errorf("after the proof is withdrawn a is %s and c is %s", q.state("a"), q.state("c"))
	}
}

// TestPrintsLinkFindings lists those that share most values first, and forgets what a
// withdrawn batch showed.
func TestPrintsLinkFindings(t *testing.T) {
	q := newQuay(t)
	first := q.batch("one", nil, shown("a", 1, 2, 3), shown("b", 3), shown("c", 1, 2, 9), shown("d", 8))
	same := func() string {
		t.Helper()
		a, err := q.Findings.Finding(t.Context(), "a")
		if err != nil {
			t.Fatal(err)
		}
		all, err := q.Findings.SameValue(t.Context(), a, 10)
		if err != nil {
			t.Fatal(err)
		}
		var ids []string
		for _, f := range all {
			ids = append(ids, f.ID)
		}
		return strings.Join(ids, " ")
	}
	if got := same(); got != "c b" {
		t.Errorf("the same values are at %q", got)
	}
	q.batch("two", nil, shown("a", 8), shown("d", 8))
	if got := same(); got != "c b d" {
		t.Errorf("after another batch they are at %q", got)
	}
	if err := q.Captures.Withdraw(t.Context(), first.ID, "Noor", q.now, TrailEntry{}); err != nil {
		t.Fatal(err)
	}
	if got := same(); got != "d" || q.count(t, "prints") != 2 {
		t.Errorf("after the first is withdrawn they are at %q, of %d prints", got, q.count(t, "prints"))
	}
}

// TestCapturesByEveryFilter tries each part of a filter alone.
func TestCapturesByEveryFilter(t *testing.T) {
	q := newQuay(t)
	b := q.batch("one", nil, shown("a"), shown("b"), shown("c")) // 200, 300, 400, and 500 without a finding
	for name, c := range map[string]struct {
		by   CaptureFilter
		want int
	}{
		"all": {CaptureFilter{}, 4}, "the batch": {CaptureFilter{Batch: b.ID}, 4},
		"another batch": {CaptureFilter{Batch: 99}, 0}, "the service": {CaptureFilter{Service: "quay"}, 4},
		"another service": {CaptureFilter{Service: "x"}, 0},
		"an endpoint":     {CaptureFilter{Endpoint: EndpointID("quay", "GET /b")}, 1},
		"a finding":       {CaptureFilter{Finding: "c"}, 1}, "leaking": {CaptureFilter{Leaking: true}, 3},
		"clean": {CaptureFilter{Clean: true}, 1}, "skipped": {CaptureFilter{Skipped: true}, 0},
		"a status": {CaptureFilter{Statuses: []string{"300"}}, 1}, "a class": {CaptureFilter{Statuses: []string{"4XX"}},
			1}, "small letters": {CaptureFilter{Statuses: []string{"5xx"}}, 1},
		"two":   {CaptureFilter{Statuses: []string{"200", "5XX"}}, 2},
		"large": {CaptureFilter{Least: 30}, 2}, "small": {CaptureFilter{Most: 20}, 2},
		"between": {CaptureFilter{Least: 20, Most: 30}, 2}, "since": {CaptureFilter{Since: q.now}, 4},
		"since later": {CaptureFilter{Since: q.now.Add(time.Second)}, 0},
		"until":       {CaptureFilter{Until: q.now}, 0}, "until later": {CaptureFilter{Until: q.now.Add(time.Second)},
			4},
		"words": {CaptureFilter{Words: "get EXAMPLE/b"}, 1}, "no such words": {CaptureFilter{Words: "get zebra"}, 0},
		"repeats": {CaptureFilter{Repeats: 1}, 0},
	} {
		all, n, _, err := q.Captures.Captures(t.Context(), c.by, Page{Number: 1, Size: 10})
		if err != nil || n != c.want || len(all) != c.want {
			t.Errorf("%s: %d of %d captures, want %d, %v", name, len(all), n, c.want, err)
		}
	}
	if _, err := q.write.Exec(`UPDATE captures SET incomplete = 'it broke off'`); err != nil {
		t.Fatal(err)
	}
	if all, _, _, err := q.Captures.Captures(t.Context(), CaptureFilter{Clean: true},
		Page{Number: 1, Size: 10}); err != nil ||
		len(all) != 0 {
		t.Errorf("what is not whole is without findings: %+v, %v", all, err)
	}
	for sort, first := range map[string]int{"bytes": 3, "newest": 0, "nonsense": 0} {
		if all, _, _, err := q.Captures.Captures(t.Context(), CaptureFilter{Sort: sort},
			Page{Number: 1, Size: 10}); err != nil || all[0].Entry != first {
			t.Errorf("by %s entry %d comes first, want %d, %v", sort, all[0].Entry, first, err)
		}
	}
}
