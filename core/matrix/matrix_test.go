package matrix

import (
	"fmt"
	"strings"
	"testing"

	"inkret/core/contract"
	"inkret/core/exchange"
	"inkret/core/scan"
)

const text = `inkret: 1
service: quay
audiences: [{name: visitor, recognise: {credentials: none}}, {name: skipper, recognise: {header: {name: X-Skipper, value: "*"}}}, {name: office, recognise: {header: {name: X-Desk, value: "*"}}}]
callers: [{header: X-Skipper}]
entities: {Booking: {owner: skipper, fields: {ref: {class: public}, skipper: {class: internal}, note: {class: personal}, mail: {class: personal, type: string}}}}
endpoints:
- endpoint: GET /bookings
  responses:
  - {audiences: [skipper], entity: Booking, many: true, own: true, grants: {ref: , skipper: {optional: true}, note: {optional: true}}}
  - {audiences: [office], entity: Booking, many: true, grants: {ref: , skipper: {optional: true}, mail: {optional: true}}}
`

// answered judges what a caller got.
func answered(t *testing.T, header, body string, status int) Column {
	t.Helper()
	c, err := contract.Read(contract.File{Name: "a.yaml", Data: []byte(text)})
	if err != nil {
		t.Fatal(err)
	}
	r, err := exchange.ParseRequest("GET https://q.example/bookings")
	if err != nil {
		t.Fatal(err)
	}
	if name, value, ok := strings.Cut(header, ": "); ok {
		r.Header = exchange.Header{{Name: name, Value: value}}
	}
	wire := scan.NewWire(c)
	out := scan.NewJudge(c).Watch(&exchange.Capture{Request: *r, Response: exchange.Response{Status: status,
		Header: exchange.Header{{Name: "Content-Type", Value: "application/json"}}, Body: []byte(body)}}, wire)
	return Column{Refused: status >= 400, Body: wire.Root(out.Spots), Outcome: &out}
}

// TestCallersSideBySide checks each state, what differs, and the order of rows.
func TestCallersSideBySide(t *testing.T) {
	rows, more := Of([]Column{
		answered(t, "X-Skipper: 7", `[{"ref":"a","skipper":7,"note":"x"}]`, 200),
		answered(t, "X-Skipper: 8", `[{"ref":"a","skipper":7,"note":"x","mail":"a@b.example"}]`, 200),
		answered(t, "X-Desk: 1", `[{"ref":"a","skipper":7,"mail":"a@b.example"}]`, 200),
		answered(t, "", `{"title":"no"}`, 401),
	})
	var got []string
	for _, r := range rows {
		got = append(got, fmt.Sprint(r.Path, " ", r.States, " ", r.Differs, " ", r.Class))
	}
	want := []string{
		"$[*] [granted theirs granted refused] true personal",
		"$[*].mail [withheld leaking granted refused] true personal",
		"$[*].note [granted theirs withheld refused] true personal",
		"$[*].ref [granted theirs granted refused] true public",
		"$[*].skipper [granted theirs granted refused] true internal",
		"$ [granted granted granted refused] false ",
	}
	if strings.Join(got, "\n") != strings.Join(want, "\n") || more != 0 {
		t.Errorf("the matrix is\n%s\nwant\n%s", strings.Join(got, "\n"), strings.Join(want, "\n"))
	}
}

// TestWhatIsAbsent tells what is granted and not sent from what is withheld.
func TestWhatIsAbsent(t *testing.T) {
	rows, _ := Of([]Column{answered(t, "X-Skipper: 7", `[{"ref":"a","skipper":7,"note":"x"}]`, 200),
		answered(t, "X-Skipper: 7", `[{"ref":"a","skipper":7}]`, 200), answered(t, "X-Desk: 1", `[{"ref":"a"}]`, 200)})
	for _, r := range rows {
		if r.Path == "$[*].note" && fmt.Sprint(r.States) != "[granted absent withheld]" {
			t.Errorf("%s is %v", r.Path, r.States)
		}
	}
	many := strings.Repeat(`"x`, 1)
	for i := range Most + 5 {
		many += fmt.Sprintf(`%d":1,"x`, i)
	}
	if rows, more := Of([]Column{answered(t, "X-Desk: 1", `[{"ref":"a",`+many+`":1}]`, 200)}); len(rows) != Most || more == 0 {
		t.Errorf("%d rows, %d more", len(rows), more)
	}
}
