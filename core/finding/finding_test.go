package finding

import (
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"reflect"
	"slices"
	"strings"
	"testing"

	"inkret/core/catalog"
	"inkret/core/contract"
	"inkret/core/kind"
	"inkret/core/scan"
	"inkret/core/severity"
)

func TestFingerprint(t *testing.T) {
	id := Identity{Service: "fennick-quay", Endpoint: "GET /v1/bookings/{booking_id}", Audience: "skipper",
		Direction: Response, Status: "200",
		Path: "$.data.owner.email", Kind: kind.SensitiveField}
	// printf 'fennick-quay\nGET
	// /v1/bookings/{booking_id}\nskipper\nresponse\n200\n$.data.owner.email\nsensitive-field' | sha256sum
	if got, want := id.Fingerprint(), "a4c2985d536a4aa0"; got != want {
		t.Errorf("fingerprint %s, want %s", got, want)
	}
	seen := map[string]Identity{id.Fingerprint(): id}
	for _, change := range []func(*Identity){
		func(i *Identity) { i.Service = "x" }, func(i *Identity) { i.Endpoint = "x" },
		func(i *Identity) { i.Audience = "x" }, func(i *Identity) { i.Direction = Request },
		func(i *Identity) { i.Status = "2XX" }, func(i *Identity) { i.Path = "$" },
		func(i *Identity) { i.Kind = kind.SecretValue },
	} {
		other := id
		change(&other)
		if same, ok := seen[other.Fingerprint()]; ok {
			t.Errorf("%+v and %+v have one fingerprint", same, other)
		}
		seen[other.Fingerprint()] = other
	}
}

func outcome(endpoint, audience string, spots ...scan.Spot) *scan.Outcome {
	return &scan.Outcome{Endpoint: endpoint, Audience: audience, AudienceBy: "said", Status: "2XX", Known: true,
		Bytes: 100, Excess: 10, Spots: spots}
}

func spot(kind kind.Kind, severity severity.Severity, path string) scan.Spot {
	return scan.Spot{Kind: kind, Severity: severity, Path: path, Pointer: strings.ReplaceAll(path[1:], ".", "/"),
		Bytes: 7, Sample: "s•••"}
}

func list(all []*Finding) string {
	var lines []string
	for _, f := range all {
		lines = append(lines, fmt.Sprintf("%s %s %s %s %s spots %d captures %d bytes %d", f.Severity, f.Kind,
			f.Endpoint, f.Audience, f.Path, f.Spots, f.Captures, f.Bytes))
	}
	return strings.Join(lines, "\n")
}

func TestSpotsOfOneIdentityAreOneFinding(t *testing.T) {
	c := NewCollector("s")
	path := "$.a[*]"
	c.Add("f.har", 0, outcome("GET /a", "visitor", spot(kind.UnexpectedField, severity.Medium, path),
		spot(kind.UnexpectedField, severity.Medium, path)))
	c.Add("f.har", 1, outcome("GET /a", "visitor", spot(kind.UnexpectedField, severity.Medium, path)))
	c.Add("f.har", 2, outcome("GET /a", "office", spot(kind.UnexpectedField, severity.Medium, path)))
	want := "medium unexpected-field GET /a office $.a[*] spots 1 captures 1 bytes 7\nmedium unexpected-field GET " +
		"/a visitor $.a[*] spots 3 captures 2 bytes 21"
	if got := list(c.Findings()); got != want {
		t.Errorf("found:\n%s\nwant:\n%s", got, want)
	}
	if s := c.Summary(); s != (Summary{Captures: 3, Judged: 3, Bytes: 300, ExcessBytes: 30}) {
		t.Errorf("summary %+v", s)
	}
}

func TestTheGravestSpotDescribesAFinding(t *testing.T) {
	c := NewCollector("s")
	first, graver, later := spot(kind.UnexpectedRelation, severity.Medium, "$.r"), spot(kind.UnexpectedRelation,
		severity.High,
		"$.r"), spot(kind.UnexpectedRelation, severity.High, "$.r")
	first.Entity, graver.Entity, later.Entity = "A", "B", "C"
	graver.Class = catalog.Personal
	c.Add("f.har", 0, outcome("GET /a", "v", first))
	c.Add("g.har", 4, outcome("GET /a", "v", graver))
	c.Add("g.har", 5, outcome("GET /a", "v", later))
	f := c.Findings()[0]
	if f.Severity != severity.High || f.Entity != "B" || f.Class != "personal" || f.First != (First{"f.har", 0, "/r"}) {
		t.Errorf("severity %s, entity %s, class %s, first %+v", f.Severity, f.Entity, f.Class, f.First)
	}
}

func TestOfTheFiveKindsAtOnePathTheGravestIsReported(t *testing.T) {
	c := NewCollector("s")
	c.Add("f", 0, outcome("GET /a", "v", spot(kind.UnexpectedField, severity.Medium, "$.a"), spot(kind.UnexpectedField,
		severity.Low, "$.b")))
	c.Add("f", 1, outcome("GET /a", "v", spot(kind.PersonalValue, severity.High, "$.a"),
		spot(kind.MissingField, severity.Low,
			"$.b")))
	c.Add("f", 2, outcome("GET /a", "v", spot(kind.SensitiveField, severity.High, "$.a")))
	c.Add("f", 3, outcome("GET /a", "w", spot(kind.UnexpectedField, severity.Medium, "$.a")))
	want := "high sensitive-field GET /a v $.a spots 1 captures 1 bytes 7\nmedium unexpected-field GET /a w $.a " +
		"spots 1 captures 1 bytes 7\n" +
		"low missing-field GET /a v $.b spots 1 captures 1 bytes 7\nlow unexpected-field GET /a v $.b spots 1 " +
		"captures 1 bytes 7"
	if got := list(c.Findings()); got != want {
		t.Errorf("found:\n%s\nwant:\n%s", got, want)
	}
}

func TestAnUnknownEndpointHasNeitherAudienceNorStatus(t *testing.T) {
	c := NewCollector("s")
	for i, audience := range []string{"v", "w"} {
		c.Add("f", i, outcome("GET /x/{}", audience, scan.Spot{Kind: kind.UnknownEndpoint, Severity: severity.Low,
			Path: "$"}))
	}
	all := c.Findings()
	if len(all) != 1 || all[0].Audience != "" || all[0].Status != "" || all[0].AudienceBy != "" ||
		all[0].Captures != 2 {
		t.Errorf("found:\n%s", list(all))
	}
}

func TestSkippedCapturesKeepTheirSpots(t *testing.T) {
	c := NewCollector("s")
	out := outcome("GET /a", "v", spot(kind.SecretValue, severity.Critical, "$.a"))
	out.Skipped = "the body is not JSON"
	c.Add("f", 3, out)
	if s := c.Summary(); s.Skipped != 1 || s.Judged != 0 || s.Bytes != 0 || len(c.Findings()) != 1 ||
		c.Skipped()[0] != (Skipped{"f", 3, "the body is not JSON"}) {
		t.Errorf("summary %+v, skipped %+v, %d findings", s, c.Skipped(), len(c.Findings()))
	}
}

func TestStatusInJSON(t *testing.T) {
	for status, want := range map[Status]string{"200": "200", "2XX": `"2XX"`, "default": `"default"`} {
		if got, err := json.Marshal(status); err != nil || string(got) != want {
			t.Errorf("%s is written %s (%v), want %s", status, got, err, want)
		}
	}
}

func TestExceptions(t *testing.T) {
	x := func(path, until string) []*contract.Exception {
		return []*contract.Exception{{Endpoint: "GET /a", Path: path, Kind: "unexpected-field", Until: until,
			Reason: "r"}}
	}
	for _, one := range []struct {
		name string
		x    []*contract.Exception
		path string
		want bool
	}{
		{"equal text", x("$.a.b", ""), "$.a.b", true},
		{"another path", x("$.a.b", ""), "$.a.c", false},
		{"all below", x("$.a..*", ""), "$.a.b[*].c", true},
		{"below an element", x("$.a..*", ""), "$.a[*]", true},
		{"not itself", x("$.a..*", ""), "$.a", false},
		{"not what only begins alike", x("$.a..*", ""), "$.ab", false},
		{"on its last day", x("$.a", "2026-05-01"), "$.a", true},
		{"after its last day", x("$.a", "2026-04-30"), "$.a", false},
	} {
		f := &Finding{Identity: Identity{Endpoint: "GET /a", Path: one.path, Kind: kind.UnexpectedField},
			Severity: severity.High}
		other := &Finding{Identity: Identity{Endpoint: "GET /b", Path: one.path, Kind: kind.UnexpectedField},
			Severity: severity.Low}
		all := []*Finding{f, other}
		Except(all, one.x, "2026-05-01")
		if (f.Excepted != nil) != one.want || other.Excepted != nil {
			t.Errorf("%s: excepted %v, at another endpoint %v", one.name, f.Excepted != nil, other.Excepted != nil)
		}
		want := severity.High
		if one.want {
			want = severity.Low
		}
		if got := Gravest(all); got != want {
			t.Errorf("%s: the gravest that counts is %s", one.name, got)
		}
	}
}

func TestMoves(t *testing.T) {
	const today = "2026-05-01"
	for _, one := range []struct {
		from State
		move Move
		want string // in the error; empty when it may be
	}{
		{New, Move{To: Confirmed}, ""},
		{New, Move{To: InRepair, Comment: "x"}, ""},
		{Confirmed, Move{To: New},
			`a finding that is confirmed cannot become "new"; it can become in-repair, awaiting-proof, waived, not-a-leak`},
		{New, Move{To: Closed}, "closed by proof only"},
		{Closed, Move{To: New}, "moved by what is captured, not by hand"},
		{New, Move{To: Returned}, "cannot become"},
		{New, Move{To: NotALeak}, "needs a reason"},
		{New, Move{To: NotALeak, Comment: " "}, "needs a reason"},
		{New, Move{To: NotALeak, Comment: "a test value"}, ""},
		{New, Move{To: Waived, Comment: "r"}, "needs its last day"},
		{New, Move{To: Waived, Comment: "r", Until: "2026-04-30"}, "has passed"},
		{New, Move{To: Waived, Comment: "r", Until: today}, ""},
		{New, Move{To: Confirmed, Until: today}, "only a waiver"},
		{Waived, Move{To: Confirmed}, ""},
		{Returned, Move{To: InRepair}, ""},
		{New, Move{To: "nowhere"}, "cannot become"},
	} {
		err := one.move.Check(one.from, today)
		if one.want == "" && err != nil || one.want != "" && (err == nil || !strings.Contains(err.Error(), one.want)) {
			t.Errorf("from %s by %+v: %v, want %q", one.from, one.move, err, one.want)
		}
	}
	for _, from := range States() {
		for _, to := range from.Moves() {
			if to == Closed || to == Returned || to == New {
				t.Errorf("a person may move from %s to %s", from, to)
			}
		}
	}
}

// TestPrintsAreBounded checks that a finding of thousands of values keeps a few of their prints, each once.
func TestPrintsAreBounded(t *testing.T) {
	c := NewCollector("quay")
	for i := range uint64(500) {
		out := scan.Outcome{Endpoint: "GET /crew", Status: "200",
			Spots: []scan.Spot{{Kind: kind.PersonalValue, Severity: severity.High, Path: "$.mail", Print: 1 + i/2},
				{Kind: kind.UnexpectedField, Severity: severity.Low, Path: "$.other"}}}
		c.Add("f", int(i), &out)
	}
	for _, f := range c.Findings() {
		prints := f.Prints()
		switch f.Path {
		case "$.mail":
			if len(prints) != maxPrints || !slices.IsSorted(prints) || prints[0] != 1 || prints[1] != 2 {
				t.Errorf("%d prints: %v", len(prints), prints)
			}
		default:
			if len(prints) != 0 {
				t.Errorf("%s has prints %v", f.Path, prints)
			}
		}
	}
}

// TestMergingIsAsCollectingInOne splits captures over several collectors at random.
func TestMergingIsAsCollectingInOne(t *testing.T) {
	r := rand.New(rand.NewPCG(5, 6))
	type one struct {
		file  string
		entry int
		out   scan.Outcome
	}
	for range 500 {
		var all []one
		for entry := range 1 + r.IntN(12) {
			out := scan.Outcome{Endpoint: fmt.Sprintf("GET /%d", r.IntN(2)), Audience: "visitor",
				AudienceBy: []string{"said", "assumed"}[r.IntN(2)], Status: "2XX", Bytes: r.IntN(100),
				Excess: r.IntN(50)}
			if r.IntN(5) == 0 {
				out.Skipped = "an answer with status 204 has no body"
			}
			for range r.IntN(4) {
				out.Spots = append(out.Spots, scan.Spot{Kind: []kind.Kind{kind.SensitiveField, kind.UnexpectedField,
					kind.UnknownEndpoint}[r.IntN(3)], Severity: severity.Severity(1 + r.IntN(5)),
					Path: []string{"$.a", "$.b"}[r.IntN(2)], Pointer: fmt.Sprintf("/a/%d", entry), Bytes: r.IntN(20),
					Sample: []string{"", "null", "a•••"}[r.IntN(3)], Detector: fmt.Sprint(r.IntN(9)),
					Print: uint64(r.IntN(3)), Folded: r.IntN(2)})
			}
			all = append(all, one{"a.har", entry, out})
		}
		whole, merged := NewCollector("s"), NewCollector("s")
		for i := range all {
			whole.Add(all[i].file, all[i].entry, &all[i].out)
		}
		for from := 0; from < len(all); {
			to := from + 1 + r.IntN(len(all)-from)
			part := NewCollector("s")
			for i := from; i < to; i++ {
				part.Add(all[i].file, all[i].entry, &all[i].out)
			}
			merged.Merge(part)
			from = to
		}
		a, b := whole.Findings(), merged.Findings()
		if len(a) != len(b) || whole.Summary() != merged.Summary() ||
			!reflect.DeepEqual(whole.Skipped(), merged.Skipped()) {
			t.Fatalf("%d and %d findings, %+v and %+v", len(a), len(b), whole.Summary(), merged.Summary())
		}
		for i := range a {
			x, y := *a[i], *b[i]
			x.capture, y.capture = 0, 0
			if !reflect.DeepEqual(x, y) {
				t.Fatalf("collected in one\n%+v\nand merged\n%+v", x, y)
			}
		}
	}
}

// TestTheSameBodyForSeveral checks that a wrong-audience finding names who else got the very same body, also after
// a merge, and that no other finding does, nor one of another endpoint.
func TestTheSameBodyForSeveral(t *testing.T) {
	sent := func(endpoint, audience string, body uint64, spots ...scan.Spot) *scan.Outcome {
		out := outcome(endpoint, audience, spots...)
		out.Body = body
		return out
	}
	wrong, odd := spot(kind.WrongAudience, severity.High, "$.duty"), spot(kind.UnexpectedField, severity.Low, "$.x")
	first, second := NewCollector("s"), NewCollector("s")
	first.Add("f.har", 0, sent("GET /notices", "visitor", 7, wrong, odd))
	first.Add("f.har", 1, sent("GET /notices", "crew", 8, wrong))
	first.Add("f.har", 2, sent("GET /other", "office", 8))
	alone := wrong.Why()
	for _, f := range first.Findings() {
		if f.Kind == kind.WrongAudience && f.Why != alone {
			t.Errorf("nobody else got it, and %s says %q", f.Audience, f.Why)
		}
	}
	second.Add("f.har", 3, sent("GET /notices", "office", 7))
	second.Add("f.har", 4, sent("GET /notices", "skipper", 7, wrong))
	first.Merge(second)
	for range 2 { // asked again it says no more
		got := map[string]string{}
		for _, f := range first.Findings() {
			got[f.Kind.String()+" "+f.Audience] = strings.TrimPrefix(f.Why, alone)
		}
		want := map[string]string{
			"wrong-audience visitor":   "; the very same body went to office and skipper",
			"wrong-audience skipper":   "; the very same body went to office and visitor",
			"wrong-audience crew":      "",
			"unexpected-field visitor": odd.Why(),
		}
		if !reflect.DeepEqual(got, want) {
			t.Errorf("it says %q, and should %q", got, want)
		}
	}
}
