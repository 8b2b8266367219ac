package store

import (
	"cmp"
	"fmt"
	"maps"
	"math/rand/v2"
	"reflect"
	"slices"
	"strings"
	"testing"
	"time"
)

// pick is one of several, by chance.
func pick[T any](r *rand.Rand, of ...T) T { return of[r.IntN(len(of))] }

// some is a few of several, by chance.
func some[T any](r *rand.Rand, of ...T) []T {
	var few []T
	for _, o := range of {
		if r.IntN(2) == 0 {
			few = append(few, o)
		}
	}
	return few
}

// states are those that a test moves findings between.
var states = []string{"new", "confirmed", "no-leak", "awaiting-proof", "closed"}

// anyFinding is a finding with parts by chance, some of them hostile to a search.
func anyFinding(r *rand.Rand, n int) Finding {
	f := shown(fmt.Sprintf("f%04d", n), uint64(r.IntN(40)+1))
	f.Endpoint = pick(r, "GET /v1/guests/{guest_id}", "POST /v1/bookings", "GET /v1/100%_off", "query { guests }",
		"PUT /v1/gäste/{id}")
	f.EndpointID = EndpointID("quay", f.Endpoint)
	f.Team = pick(r, "", "harbour", "till")
	f.Audience = pick(r, "visitor", "guest", "crew")
	f.Kind = pick(r, "sensitive-field", "unexpected-field", "nested-relation")
	f.Severity = r.IntN(5)
	f.Entity = pick(r, "", "Guest", "Booking", "Berth_Plan")
	f.Field = pick(r, "email", "card_number", "Straße", `a"b`, "50%", "x")
	f.Path = "$." + pick(r, "guest", "items[*]", "GUEST") + "." + f.Field
	f.Spots, f.Bytes = r.IntN(9)+1, int64(r.IntN(4000))
	return f
}

// peopled is a quay with findings by chance, found, moved, assigned and labelled in many
// batches, a few of which were withdrawn again.
func peopled(t *testing.T, r *rand.Rand) (*quay, Person) {
	t.Helper()
	q := newQuay(t)
	noor, err := q.People.AddPerson(t.Context(), Person{Name: "Noor", Email: "noor@fennick-quay.example",
		Role: "reviewer"},
		q.now, TrailEntry{})
	if err != nil {
		t.Fatal(err)
	}
	var known []Finding
	var batches []Batch
	for b := range 8 {
		var of []Finding
		for range 12 {
			f := anyFinding(r, len(known))
			known, of = append(known, f), append(of, f)
		}
		for _, i := range r.Perm(len(known) - len(of))[:min(b, 4)] { // again, and perhaps graver
			again := known[i]
			again.Severity = r.IntN(5)
			of = append(of, again)
		}
		batches = append(batches, q.batch(fmt.Sprintf("batch %d", b), nil, of...))
		for range 10 {
			if f := known[r.IntN(len(known))]; !strings.HasPrefix(q.state(f.ID), ErrNotFound.Error()) {
				q.move(f.ID, states[r.IntN(len(states))])
			}
		}
		if b == 3 || b == 6 {
			gone := batches[r.IntN(len(batches)-1)]
			batches = slices.DeleteFunc(batches, func(b Batch) bool { return b.ID == gone.ID })
			if err := q.Captures.Withdraw(t.Context(), gone.ID, "Noor", q.now, TrailEntry{At: q.now, Author: "Noor",
				Action: "withdraw batch", Subject: "batch"}); err != nil {
				t.Fatal(err)
			}
		}
	}
	q.become(t, q.some(t, r), func(was Standing) Standing {
		was.PersonID = noor.ID
		return was
	})
	q.become(t, q.some(t, r), func(was Standing) Standing {
		was.PersonID, was.AssignedTeam = 0, pick(r, "till", "pontoon")
		return was
	})
	q.become(t, q.some(t, r), func(was Standing) Standing {
		was.Labels = []string{"audit", "q3"}
		return was
	})
	q.become(t, q.some(t, r), func(was Standing) Standing {
		was.Due = "2026-05-" + pick(r, "02", "09", "23")
		return was
	})
	return q, noor
}

// all are the findings there are, in order of their names.
func (q *quay) all(t *testing.T) []Finding {
	t.Helper()
	all, _, err := q.Findings.Findings(t.Context(), FindingFilter{}, Page{1, 10_000})
	if err != nil {
		t.Fatal(err)
	}
	slices.SortFunc(all, func(a, b Finding) int { return cmp.Compare(a.ID, b.ID) })
	return all
}

func (q *quay) some(t *testing.T, r *rand.Rand) (ids []string) {
	t.Helper()
	for _, f := range some(r, q.all(t)...) {
		ids = append(ids, f.ID)
	}
	return ids
}

// become changes findings at once.
func (q *quay) become(t *testing.T, ids []string, to func(Standing) Standing) Change {
	t.Helper()
	q.now = q.now.Add(time.Minute)
	c := Change{At: q.now, Author: "Noor", Words: "a change"}
	refused, err := q.Findings.ChangeFindings(t.Context(), &c, ids, func(was Standing) (Standing,
		string) {
		return to(was), ""
	}, func(*Change) []TrailEntry { return nil })
	if err != nil || slices.ContainsFunc(refused, func(r Refused) bool { return r.Why != "it is so already" }) {
		t.Fatalf("refused %v, %v", refused, err)
	}
	return c
}

// anywhere lets somebody undo at every service.
func anywhere(string) string { return "" }

// fits says in plain code what a filter means.
func (by *FindingFilter) fits(f *Finding) bool {
	among := func(of []string, s string) bool { return len(of) == 0 || slices.Contains(of, s) }
	same := func(want, is string) bool { return want == "" || want == is }
	holder := cmp.Or(f.AssignedTeam, f.Team)
	for _, w := range strings.Fields(by.Words) {
		if !slices.ContainsFunc([]string{f.Endpoint, f.Path, f.Entity, f.Field},
			func(in string) bool { return strings.Contains(lower(in), lower(w)) }) {
			return false
		}
	}
	return among(by.States, f.State) && among(by.Kinds, f.Kind) && (len(by.Severities) == 0 ||
		slices.Contains(by.Severities, f.Severity)) &&
		same(by.Audience, f.Audience) && same(by.Endpoint, f.EndpointID) && same(by.Team, f.Team) &&
		same(by.Entity, f.Entity) && same(by.Field, f.Field) &&
		(by.Person <= 0 || f.PersonID == by.Person) && (by.Person >= 0 || f.PersonID == 0 && holder == "") &&
		same(by.Assigned, holder) && (by.Label == "" || slices.Contains(f.Labels, by.Label)) &&
		(by.DueBefore == "" || f.Due != "" && f.Due < by.DueBefore) && same(by.Service, f.Service) &&
		(!by.Asked || f.AskedUntil != "")
}

// lower folds letters as SQLite's LIKE does: those of ASCII.
func lower(s string) string {
	return strings.Map(func(r rune) rune {
		if 'A' <= r && r <= 'Z' {
			return r + 'a' - 'A'
		}
		return r
	}, s)
}

// anyFilter is a filter with parts by chance, most of them empty.
func anyFilter(r *rand.Rand, noor int64) FindingFilter {
	var by FindingFilter
	for range r.IntN(4) {
		switch r.IntN(14) {
		case 13:
			by.Asked = true
		case 0:
			by.States = some(r, states...)
		case 1:
			by.Kinds = some(r, "sensitive-field", "unexpected-field", "none-such")
		case 2:
			by.Severities = some(r, 0, 1, 2, 3, 4)
		case 3:
			by.Audience = pick(r, "visitor", "crew", "nobody")
		case 4:
			by.Endpoint = EndpointID("quay", pick(r, "POST /v1/bookings", "GET /v1/100%_off"))
		case 5:
			by.Team = pick(r, "harbour", "till")
		case 6:
			by.Entity = pick(r, "Guest", "Berth_Plan")
		case 7:
			by.Field = pick(r, "email", `a"b`, "x")
		case 8:
			by.Person = pick(r, noor, -1, 99)
		case 9:
			by.Assigned = pick(r, "till", "pontoon", "harbour")
		case 10:
			by.Label = pick(r, "audit", "none")
		case 11:
			by.DueBefore = pick(r, "2026-05-09", "2026-05-10", "2027-01-01")
		case 12:
			by.Service = pick(r, "quay", "another")
		}
	}
	by.Words = strings.Join(some(r, pick(r, "GUEST", "ook", "mail", "x"), pick(r, "h_P", "%", "0%_", "50%", "_"),
		pick(r, "straße", "Stra", "gäs", `"`, `a"b`, `\`), "/v1/"), " ")
	if r.IntN(2) == 0 {
		by.Words = ""
	}
	by.Sort = pick(r, "", "severity", "-severity", "path", "-path", "state", "due", "-due", "last_seen", "-last_seen",
		"first_seen", "kind", "endpoint", "-spots", "bytes")
	return by
}

// TestAFilterMeansWhatItSays compares 400 filters, page by page and in order, with a look at every finding, and the
// counts too, whether they come from an index, trigrams or kept counts.
func TestAFilterMeansWhatItSays(t *testing.T) {
	r := rand.New(rand.NewPCG(6, 20))
	q, noor := peopled(t, r)
	all := q.all(t)
	keys := map[string]func(a, b *Finding) int{
		"severity": func(a, b *Finding) int { return a.Severity - b.Severity },
		"path":     func(a, b *Finding) int { return cmp.Compare(a.Path, b.Path) },
		"state":    func(a, b *Finding) int { return cmp.Compare(a.State, b.State) },
		"kind":     func(a, b *Finding) int { return cmp.Compare(a.Kind, b.Kind) },
		"endpoint": func(a, b *Finding) int { return cmp.Compare(a.Endpoint, b.Endpoint) },
		"spots":    func(a, b *Finding) int { return a.Spots - b.Spots },
		"bytes":    func(a, b *Finding) int { return cmp.Compare(a.Bytes, b.Bytes) },
		"due":      func(a, b *Finding) int { return cmp.Compare(cmp.Or(a.Due, "9999"), cmp.Or(b.Due, "9999")) },

		"last_seen":  func(a, b *Finding) int { return a.LastSeen.Compare(b.LastSeen) },
		"first_seen": func(a, b *Finding) int { return a.FirstSeen.Compare(b.FirstSeen) },
	}
	matched, counted := 0, 0
	for range 400 {
		by := anyFilter(r, noor.ID)
		var want []Finding
		severities := map[int]int{}
		for _, f := range all {
			if by.fits(&f) {
				want = append(want, f)
				severities[f.Severity]++
			}
		}
		name, down := strings.CutPrefix(cmp.Or(by.Sort, "-severity"), "-")
		slices.SortFunc(want, func(a, b Finding) int {
			first, rest := keys[name](&a, &b), cmp.Or(b.LastSeen.Compare(a.LastSeen), cmp.Compare(a.ID, b.ID))
			if down {
				first = -first
			}
			// turned round, all of it is
			if greatest := slices.Contains([]string{"severity", "spots", "bytes", "last_seen"},
				name); down != greatest {
				rest = -rest
			}
			return cmp.Or(first, rest)
		})
		var got []Finding
		const size = 17
		for n := 1; ; n++ {
			page, counts, err := q.Findings.Findings(t.Context(), by, Page{n, size})
			if err != nil {
				t.Fatalf("%+v: %v", by, err)
			}
			if !maps.Equal(counts, severities) {
				t.Fatalf("%+v counts %v, and there are %v", by, counts, severities)
			}
			got = append(got, page...)
			if len(page) < size {
				break
			}
		}
		names := func(of []Finding) (ids []string) {
			for _, f := range of {
				ids = append(ids, f.ID)
			}
			return ids
		}
		if !slices.Equal(names(got), names(want)) {
			t.Fatalf("%+v lists %v, and should %v", by, names(got), names(want))
		}
		ids, err := q.Findings.FindingIDs(t.Context(), by, 10_000)
		slices.SortFunc(want, func(a, b Finding) int { return cmp.Compare(a.ID, b.ID) })
		if err != nil || !slices.Equal(ids, names(want)) {
			t.Fatalf("%+v would change %v, and lists %v: %v", by, ids, names(want), err)
		}
		if len(want) > 0 {
			matched++
		}
		if _, kept := by.counted(); kept {
			counted++
		}
	}
	if matched < 100 || counted < 50 {
		t.Errorf("only %d of the filters find anything, and %d are told by the kept counts", matched, counted)
	}
}

// TestCountsAreKept compares the counts kept beside the findings with counting, after findings came, came again,
// moved, changed together and were withdrawn.
func TestCountsAreKept(t *testing.T) {
	r := rand.New(rand.NewPCG(7, 21))
	q, _ := peopled(t, r)
	type group struct {
		endpoint, kind, state string
		severity, n           int
	}
	counts := func(query string) []group {
		t.Helper()
		all, err := rows(t.Context(), q.read, func(r scanner) (g group, err error) {
			return g, r.Scan(&g.endpoint, &g.kind, &g.state, &g.severity, &g.n)
		}, query)
		if err != nil {
			t.Fatal(err)
		}
		return all
	}
	same := func(after string) {
		t.Helper()
		kept := counts(`SELECT endpoint_id, kind, state, severity, n FROM finding_counts WHERE n <> 0 ORDER BY 1, 2, 3, 4`)
		is := counts(`SELECT endpoint_id, kind, state, severity, count(*) FROM findings GROUP BY 1, 2, 3, 4 ORDER BY 1, 2, 3, 4`)
		if !slices.Equal(kept, is) || len(is) < 10 {
			t.Errorf("after %s kept are %d groups, and counted %d: %v, %v", after, len(kept), len(is), kept, is)
		}
	}
	same("many batches")
	c := q.become(t, q.some(t, r), func(was Standing) Standing {
		was.State = "confirmed"
		return was
	})
	same("a change together")
	if _, _, err := q.Findings.Undo(t.Context(), c.ID, Event{At: q.now, Author: "Noor"}, anywhere,
		TrailEntry{}); err != nil {
		t.Fatal(err)
	}
	same("its undoing")
	byState := map[string]int{}
	for _, f := range q.all(t) {
		byState[f.State]++
	}
	if got, err := q.Findings.StateCounts(t.Context()); err != nil || !maps.Equal(got, byState) {
		t.Errorf("by state there are %v, and kept %v: %v", byState, got, err)
	}
	open := map[string]int{}
	for _, f := range q.all(t) {
		if slices.Contains([]string{"new", "confirmed", "awaiting-proof"}, f.State) {
			open[f.EndpointID]++
		}
	}
	endpoints, _, err := q.Contracts.Endpoints(t.Context(), EndpointFilter{}, Page{1, 100})
	for _, e := range endpoints {
		if e.Open != open[e.ID] {
			t.Errorf("of %s %d are open, not %d", e.Text, open[e.ID], e.Open)
		}
	}
	if err != nil {
		t.Error(err)
	}
}

// TestUndoneIsAsBefore changes findings in a row, and undoes some of it: each that the change
// was the last to touch comes back as it was, and all else stays.
func TestUndoneIsAsBefore(t *testing.T) {
	r := rand.New(rand.NewPCG(8, 22))
	q, noor := peopled(t, r)
	standings := func() map[string]string {
		as := map[string]string{}
		for _, f := range q.all(t) {
			as[f.ID] = fmt.Sprint(f.State, f.Until, f.PersonID, f.AssignedTeam, f.Due, f.Labels, f.AskedUntil,
				f.AskedBy)
		}
		return as
	}
	before := []map[string]string{standings()}
	var changes []Change
	for range 6 {
		few := q.some(t, r)
		changes = append(changes, q.become(t, few[:len(few)/2], func(was Standing) Standing {
			switch r.IntN(5) {
			case 4:
				was.Asked, was.AskedBy = "2026-07-01", noor.ID
			case 0:
				was.State = states[r.IntN(len(states))]
			case 1:
				was.PersonID, was.AssignedTeam = noor.ID, ""
			case 2:
				was.Due = "2026-06-01"
			case 3:
				was.Labels = some(r, "audit", "later")
			}
			return was
		}))
		before = append(before, standings())
	}
	since := map[string]bool{} // touched by a later change, or by undoing one
	restored, stayed := 0, 0
	for i := len(changes) - 1; i >= 0; i-- {
		was := standings()
		undone, left, err := q.Findings.Undo(t.Context(), changes[i].ID, Event{At: q.now, Author: "Noor"}, anywhere,
			TrailEntry{})
		if err != nil || undone+len(left) != changes[i].Findings {
			t.Fatalf("change %d of %d findings: %d undone, %d left, %v", i, changes[i].Findings, undone, len(left), err)
		}
		as := standings()
		for id := range as {
			touched := before[i][id] != before[i+1][id]
			decided := func(text string) string { // an undo brings none of these back
				for _, state := range []string{"closed", "waived", "not-a-leak"} {
					if strings.HasPrefix(text, state) {
						return state
					}
				}
				return ""
			}
			switch {
			case touched && !since[id] && decided(before[i][id]) != "" &&
				decided(before[i][id]) != decided(before[i+1][id]):
				if stayed++; as[id] != was[id] {
					t.Errorf("undoing change %d brings a decision back: %s %q", i, id, as[id])
				}
			case touched && !since[id] && as[id] != before[i][id]:
				t.Errorf("change %d made %s %q of %q, and undoing makes it %q", i, id, before[i+1][id], before[i][id],
					as[id])
			case (!touched || since[id]) && as[id] != was[id]:
				t.Errorf("undoing change %d makes %s %q, which was %q", i, id, as[id], was[id])
			case touched && since[id]:
				stayed++
			case touched:
				restored++
			}
			since[id] = since[id] || touched
		}
	}
	if restored < 40 || stayed < 20 {
		t.Errorf("only %d were restored, and %d were changed since", restored, stayed)
	}
	if _, _, err := q.Findings.Undo(t.Context(), changes[5].ID, Event{At: q.now, Author: "Noor"}, anywhere,
		TrailEntry{}); err != ErrNotFound {
		t.Errorf("undone twice: %v", err)
	}
}

// TestEveryFieldOfAFindingIsKept checks that no field of a finding was forgotten in the list that reads and writes
// it.
func TestEveryFieldOfAFindingIsKept(t *testing.T) {
	var f Finding
	lines := map[uintptr]int{}
	for _, field := range findingFields {
		lines[reflect.ValueOf(field.at(&f)).Pointer()]++
	}
	var missing func(of reflect.Value)
	missing = func(of reflect.Value) {
		for field, v := range of.Fields() {
			switch n := lines[v.Addr().Pointer()]; {
			case field.Anonymous:
				missing(v)
			case field.Name == "Prints": // in a table of their own
			case n != 1:
				t.Errorf("%s has %d lines in findingFields", field.Name, n)
			}
		}
	}
	missing(reflect.ValueOf(&f).Elem())
}
