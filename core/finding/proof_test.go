package finding

import (
	"strings"
	"testing"
	"time"

	"inkret/core/contract"
	"inkret/core/exchange"
	"inkret/core/kind"
	"inkret/core/scan"
)

func TestParents(t *testing.T) {
	for path, want := range map[string]string{
		"$": "$", "$.a": "$", "$.data[*].owner.email": "$.data[*].owner", "$[*]": "$", "$[*].x": "$[*]",
		"$.tags[*]": "$.tags", "$['a.b']": "$", "$.a[*]..*": "$.a[*]", "$.x['it\\'s.y']": "$.x",
		"$.rows[*][3]":                          "$.rows[*]",
		"script#state >> $.arrivals[*].skipper": "script#state >> $.arrivals[*]",
		"$.payload >> $.user":                   "$.payload >> $", "$.payload >> $": "$.payload >> $",
	} {
		if got := Parent(path); got != want {
			t.Errorf("above %s is %s, want %s", path, got, want)
		}
	}
}

// proofs is what the cases below are judged by.
const proofs = `inkret: 1
service: quay
audiences: [{name: visitor, recognise: {credentials: none}}, {name: office, recognise: {header: {name: X-Desk, value: "*"}}}]
entities:
  Boat: {fields: {hull: {class: public, type: string}}}
  Crew:
    fields: {name: {class: public, type: string, nullable: true}, email: {class: personal, type: string}, note: {class: public, type: string}, role: {class: internal, type: string}}
    relations: {boat: {entity: Boat}, mates: {entity: Crew, many: true}, leader: {entity: Crew}}
endpoints:
- endpoint: GET /crew
  selection: {query: fields}
  responses:
  - {entity: Crew, at: /data, many: true, grants: {name: , note: {optional: true}, boat: {grants: {hull: }, optional: true}, leader: {reference: name, optional: true}}}
  - {statuses: [4XX], grants: {title: {external: words, type: string}}}
- endpoint: GET /crew/{id}
  responses: [{audiences: [office], entity: Crew, grants: {name: , email: }}, {audiences: [visitor], entity: Crew, grants: {name: }}]
- endpoint: PATCH /crew/{id}
  accepts: [{entity: Crew, grants: {name: {optional: true}}}]
  responses: [{entity: Crew, grants: {name: }}]
- endpoint: GET /open
  responses: [{entity: Crew, grants: {name: , note: {open: true}}}]
`

// proofCase is a capture, and what it must tell of a finding.
type proofCase struct {
	finding, request, body, answer string // finding: kind, endpoint, status, path; answer: status and body
	by                             Ground
	shows                          bool
}

// TestWhatCovers checks for each kind of finding what a capture tells of it.
func TestWhatCovers(t *testing.T) {
	const email = "sensitive-field GET /crew 2XX $.data[*].email"
	const hash = "sensitive-field GET /crew 2XX $.data[*].mates[*].email"
	const role = "over-posting PATCH /crew/{id} 2XX $.role"
	const mates = "unexpected-relation GET /crew 2XX $.data[*].mates"
	for name, one := range map[string]proofCase{
		"without it":        {email, "GET /crew", "", `200 {"data":[{"name":"Ada"}]}`, Seen, false},
		"still there":       {email, "GET /crew", "", `200 {"data":[{"name":"Ada","email":"a@b.example"}]}`, "", true},
		"its name is there": {email, "GET /crew", "", `200 {"data":[{"name":"Ada","email":null}]}`, "", true},
		"an empty list":     {email, "GET /crew", "", `200 {"data":[]}`, "", false},
		"a null":            {email, "GET /crew", "", `200 {"data":null}`, "", false},
		"elsewhere":         {email, "GET /crew", "", `200 {"items":[{"name":"Ada"}]}`, "", false},
		"another status":    {email, "GET /crew", "", `404 {"title":"gone"}`, "", false},
		"another endpoint":  {email, "GET /boats", "", `200 {"data":[{"name":"Ada"}]}`, "", false},
		"it breaks off":     {email, "GET /crew", "", `200 {"data":[{"name":"Ada"},{"na`, "", false},
		"a text":            {email, "GET /crew", "", `200 "gone"`, "", false},
		"other exposure": {email, "GET /crew", "", `200 {"data":[{"name":"Ada","email":{"of":1}}]}`, "",
			true},
		"moved elsewhere": {email, "GET /crew", "",
			`200 {"data":[{"name":"Ada","contact":{"email":"a@b.example"}}]}`, Seen, false},
		"some were chosen": {email, "GET /crew?fields=name", "", `200 {"data":[{"name":"Ada"}]}`, "", false},
		"chosen, escaped": {email, "GET /crew?%66ields=name,note", "", `200 {"data":[{"name":"Ada"}]}`, "",
			false},
		"asked for something":   {email, "GET /crew?sort=name", "", `200 {"data":[{"name":"Ada"}]}`, Seen, false},
		"spelled with escapes":  {email, "GET /crew", "", `200 {"d\u0061ta":[{"n\u0061me":"Ada"}]}`, Seen, false},
		"of some, null":         {email, "GET /crew", "", `200 {"data":[null,{"name":"Ada"}]}`, Seen, false},
		"all null":              {email, "GET /crew", "", `200 {"data":[null,null]}`, "", false},
		"the relation is gone":  {hash, "GET /crew", "", `200 {"data":[{"name":"Ada"}]}`, Removed, false},
		"the relation is null":  {hash, "GET /crew", "", `200 {"data":[{"name":"Ada","mates":null}]}`, "", false},
		"the relation is empty": {hash, "GET /crew", "", `200 {"data":[{"name":"Ada","mates":[]}]}`, "", false},
		"the relation, without": {hash, "GET /crew", "", `200 {"data":[{"name":"Ada","mates":[{"name":"Bo"}]}]}`, Seen,
			false},
		"one relation, one not": {hash, "GET /crew", "", `200 {"data":[{"name":"Ada"},{"name":"Bo","mates":[]}]}`, "",
			false},
		"nobody with relations": {hash, "GET /crew", "", `200 {"data":[]}`, "", false},
		"the relation itself":   {mates, "GET /crew", "", `200 {"data":[{"name":"Ada"}]}`, Seen, false},
		"the relation, emptied": {mates, "GET /crew", "", `200 {"data":[{"name":"Ada","mates":[]}]}`, "", true},
		"in what is granted": {"sensitive-field GET /crew 2XX $.data[*].boat.pin", "GET /crew", "",
			`200 {"data":[{"name":"Ada"}]}`, "", false},
		"in what is granted too": {"sensitive-field GET /crew 2XX $.data[*].boat.pin", "GET /crew", "",
			`200 {"data":[{"name":"Ada","boat":{"hull":"x"}}]}`, Seen, false},
		"in granted, null": {"sensitive-field GET /crew 2XX $.data[*].boat.pin", "GET /crew", "",
			`200 {"data":[{"name":"Ada","boat":null}]}`, "", false},
		"now a reference": {"sensitive-field GET /crew 2XX $.data[*].leader.email", "GET /crew", "",
			`200 {"data":[{"name":"Ada","leader":12}]}`, Seen, false},
		"inside what is open": {"secret-value GET /open 2XX $.note.a.key", "GET /open", "",
			`200 {"name":"Ada","note":{"b":1}}`, "", false},
		"a value, other": {"personal-value GET /crew 2XX $.data[*].note", "GET /crew", "",
			`200 {"data":[{"name":"Ada","note":"hello"}]}`, Seen, false},
		"a value, null": {"personal-value GET /crew 2XX $.data[*].note", "GET /crew", "",
			`200 {"data":[{"name":"Ada","note":null}]}`, "", false},
		"elements of a list": {"personal-value GET /list 200 $.tags[*]", "GET /list", "", `200 {"tags":["a"]}`,
			Seen, false},
		"no elements of a list": {"personal-value GET /list 200 $.tags[*]", "GET /list", "", `200 {"tags":[]}`, "",
			false},
		"swept, elsewhere": {"secret-value GET /list 200 $.a.key", "GET /list", "", `200 {"b":1}`, "", false},
		"swept, there": {"secret-value GET /list 200 $.a.key", "GET /list", "", `200 {"a":{"b":1}}`, Seen,
			false},
		"in a name with a dot": {"secret-value GET /list 200 $['a.b'].key", "GET /list", "", `200 {"a.b":{"c":1}}`,
			Seen, false},
		"in a text": {"secret-value GET /list 200 $.a >> $.key", "GET /list", "", `200 {"a":"{\"c\":1}"}`,
			Seen, false},
		"in a text that is none": {"secret-value GET /list 200 $.a >> $.key", "GET /list", "", `200 {"a":"c"}`, "",
			false},
		"another's, now null": {"wrong-audience GET /crew/{id} 2XX $.email", "GET /crew/1", "", `200 {"name":"Ada"}`,
			Seen, false},
		"another's, still": {"wrong-audience GET /crew/{id} 2XX $.email", "GET /crew/1", "",
			`200 {"name":"Ada","email":"a@b.example"}`, "", true},
		"posted again": {role, "PATCH /crew/1", `{"name":"x","role":"lead"}`, `200 {"name":"x"}`, "", true},
		"not posted":   {role, "PATCH /crew/1", `{"name":"x"}`, `200 {"name":"x"}`, "", false},
		"posted and refused": {role, "PATCH /crew/1", `{"name":"x","role":"lead"}`, `422 {"title":"no"}`, Carried,
			false},
		"posted and not taken": {role, "PATCH /crew/1", `{"role":"lead"}`, `200 {"name":"x","role":"hand"}`, Carried,
			false},
		"posted, as null":   {role, "PATCH /crew/1", `{"role":null}`, `422 {"title":"no"}`, Carried, false},
		"posted, no answer": {role, "PATCH /crew/1", `{"role":"lead"}`, `0 `, "", false},
		"missing, now there": {"missing-field GET /crew 2XX $.data[*].name", "GET /crew", "",
			`200 {"data":[{"name":"Ada"}]}`, Judged, false},
		"missing, now null": {"missing-field GET /crew 2XX $.data[*].name", "GET /crew", "",
			`200 {"data":[{"name":null}]}`, Judged, false},
		"missing, still": {"missing-field GET /crew 2XX $.data[*].name", "GET /crew", "",
			`200 {"data":[{"note":"x"}]}`, "", true},
		"missing, of nobody": {"missing-field GET /crew 2XX $.data[*].name", "GET /crew", "", `200 {"data":[]}`, "",
			false},
		"mismatch, mended": {"value-mismatch GET /crew 2XX $.data[*].note", "GET /crew", "",
			`200 {"data":[{"name":"Ada","note":"x"}]}`, Judged, false},
		"mismatch, null": {"value-mismatch GET /crew 2XX $.data[*].name", "GET /crew", "",
			`200 {"data":[{"name":null}]}`, "", false},
		"selection, minded": {"selection-ignored GET /crew 2XX $", "GET /crew?fields=note", "",
			`200 {"data":[{"note":"x"}]}`, Judged, false},
		"selection, none": {"selection-ignored GET /crew 2XX $", "GET /crew", "",
			`200 {"data":[{"name":"Ada"}]}`, "", false},
		"undeclared, declared": {"undeclared-response GET /crew 2XX $", "GET /crew", "", `200 {"data":[]}`, Judged,
			false},
		"in the address, not": {"sensitive-in-url GET /crew 2XX query >> $.token", "GET /crew", "",
			`200 {"data":[]}`, Judged, false},
		"in the address, still": {"sensitive-in-url GET /crew 2XX query >> $.token", "GET /crew?token=abcdefgh", "",
			`200 {"data":[]}`, "", true},
		"in a header, no body": {"secret-value GET /crew 2XX header >> $['X-Key']", "GET /crew", "", `200 `, Judged,
			false},
		"an error's words": {"revealing-error GET /list 500 $", "GET /list", "", `500 sorry`, Judged, false},
	} {
		a, request := awaitingOf(t, one), exchange.Header(nil)
		trial := NewTrial([]Awaiting{a})
		c, err := contract.Read(contract.File{Name: "a.yaml", Data: []byte(proofs)})
		if err != nil {
			t.Fatal(err)
		}
		judge := scan.NewJudge(c)
		judge.Seek = trial.Seeks
		if one.body != "" {
			request = exchange.Header{{Name: "Content-Type", Value: "application/json"}}
		}
		out := judge.Capture(called(t, one.request, request, one.body, one.answer))
		if by, shows := a.Look(&out); by != one.by || shows != one.shows {
			t.Errorf("%s: covered by %q, shows %v; want %q, %v (skipped: %s, places %v, spots %v)", name, by, shows,
				one.by,
				one.shows, out.Skipped, out.Places, kinds(out.Spots))
		}
		one.request = "GET /crew/9"
		out.Audience = "office"
		if by, shows := a.Look(&out); by != "" || shows {
			t.Errorf("%s: somebody else's call covers it by %q, shows %v", name, by, shows)
		}
	}
}

func kinds(spots []scan.Spot) (all []string) {
	for _, s := range spots {
		all = append(all, s.Kind.String()+" "+s.Path)
	}
	return all
}

// awaitingOf returns the finding that a case is about.
func awaitingOf(t *testing.T, one proofCase) Awaiting {
	t.Helper()
	words := strings.SplitN(one.finding, " ", 5)
	k, ok := kind.Parse(words[0])
	if !ok {
		t.Fatalf("no kind %s", words[0])
	}
	a := Awaiting{ID: "f", Identity: Identity{Service: "quay", Endpoint: words[1] + " " + words[2], Audience: "visitor",
		Direction: Response, Status: words[3], Path: words[4], Kind: k}}
	if k == kind.OverPosting || k == kind.SensitiveInURL {
		a.Direction = Request
	}
	return a
}

// called returns a capture: request as in "GET /crew", answer as in "200 {}". Bodies that begin as JSON are JSON.
func called(t *testing.T, request string, header exchange.Header, body, answer string) *exchange.Capture {
	t.Helper()
	method, path, _ := strings.Cut(request, " ")
	r, err := exchange.ParseRequest(method + " https://q.example" + path)
	if err != nil {
		t.Fatal(err)
	}
	r.Header, r.Body = header, []byte(body)
	status, text, _ := strings.Cut(answer, " ")
	c := &exchange.Capture{Request: *r, Response: exchange.Response{Body: []byte(text)}}
	for _, digit := range status {
		c.Response.Status = 10*c.Response.Status + int(digit-'0')
	}
	media := "application/json"
	if text != "" && !strings.ContainsAny(text[:1], `{["`) {
		media = "text/plain"
	}
	if c.Response.Header = (exchange.Header{{Name: "Content-Type", Value: media}}); c.Response.Status == 0 {
		c.Response.Missing = "the call failed"
	}
	return c
}

// TestWhatABatchProves checks the parts of the rule for a batch, and the order of events.
func TestWhatABatchProves(t *testing.T) {
	day := time.Date(2026, 5, 18, 9, 0, 0, 0, time.UTC)
	at := func(minutes int) time.Time { return day.Add(time.Duration(minutes) * time.Minute) }
	type look struct {
		by    Ground
		shows bool
		when  time.Time
	}
	for name, one := range map[string]struct {
		looks []look
		shown time.Time
		want  bool
		first int
	}{
		"one covers":                {[]look{{Seen, false, at(5)}}, at(0), true, 0},
		"the second covers":         {[]look{{"", false, at(5)}, {Denied, false, at(6)}}, at(0), true, 1},
		"none covers":               {[]look{{"", false, at(5)}}, at(0), false, 0},
		"nothing at all":            {nil, at(0), false, 0},
		"another shows it, later":   {[]look{{Seen, false, at(5)}, {"", true, at(6)}}, at(0), false, 0},
		"another shows it, earlier": {[]look{{"", true, at(4)}, {Seen, false, at(5)}}, at(0), false, 1},
		"as old as the leak":        {[]look{{Seen, false, at(0)}}, at(0), false, 0},
		"older than the leak":       {[]look{{Seen, false, at(5)}}, at(9), false, 0},
		"one is newer":              {[]look{{Seen, false, at(5)}, {Seen, false, at(10)}}, at(9), true, 0},
		"without a time":            {[]look{{Seen, false, time.Time{}}}, at(0), false, 0},
		"one with a time":           {[]look{{Seen, false, time.Time{}}, {Seen, false, at(3)}}, at(0), true, 1},
	} {
		var c Covered
		for i, l := range one.looks {
			c.Add(i, l.by, l.shows, l.when)
		}
		if got := c.Proves(one.shown); got != one.want || c.First != one.first {
			t.Errorf("%s: it proves %v by capture %d, want %v by %d", name, got, c.First, one.want, one.first)
		}
	}
	if Returns(at(5), at(4)) || !Returns(at(5), at(5)) || !Returns(at(5), at(6)) {
		t.Error("what was recorded before a proof brings it back, or what was recorded after it does not")
	}
	for _, one := range []struct {
		recorded time.Time
		arrives  bool
		want     time.Time
	}{{at(3), false, at(3)}, {at(3), true, at(3)}, {time.Time{}, true, at(9)}, {time.Time{}, false, time.Time{}},
		{at(99), false, at(9)}} {
		if got := Counts(one.recorded, at(9), one.arrives); !got.Equal(one.want) {
			t.Errorf("of %v, arrived %v, counts %v, want %v", one.recorded, one.arrives, got, one.want)
		}
	}
}
