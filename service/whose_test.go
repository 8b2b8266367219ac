package service

import (
	"bytes"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"inkret/service/base"
	"inkret/service/evidence"
	"inkret/service/review"
	"inkret/store"
)

const whoseContract = `inkret: 1
service: quay
servers: ["https://q.example"]
audiences: [{name: skipper}]
callers: [{told_by: GET /me, at: /id}]
entities: {Booking: {owner: skipper, fields: {ref: {class: public}, skipper: {class: internal}, note: {class: personal}}}}
endpoints:
- endpoint: GET /me
  responses: [{grants: {id: {}}}]
- endpoint: GET /bookings
  responses: [{entity: Booking, many: true, own: true, grants: {ref: , skipper: , note: {optional: true}}}]
`

// whoseWorld is a world with that contract.
func whoseWorld(t *testing.T, bodies bool) *world {
	w := newWorld(t)
	w.alone()
	if _, _, err := w.Review.Apply(t.Context(), w.who, "quay", review.Proposed{Reason: "own records",
		Files: []base.ContractFile{{Name: "quay.yaml", Text: whoseContract}}}); err != nil {
		t.Fatal(err)
	}
	if !bodies {
		if err := w.Evidence.SetKeeping(t.Context(), w.who, "quay", store.Keeping{}); err != nil {
			t.Fatal(err)
		}
	}
	return w
}

// tokenOfSeven is the credentials, and skipperSeven who holds them; neither may be kept in clear.
const tokenOfSeven, skipperSeven = "opaque-of-ada-moor-4711", "ada.moor.7"

func whoseLine(when time.Time, path, body string) string {
	return fmt.Sprintf(`{"started":%q,"request":{"method":"GET","url":"https://q.example%s","headers":[{"name":"Authorization","value":"Token %s"}]},`+
		`"response":{"status":200,"headers":[{"name":"Content-Type","value":"application/json"}],"body":%s}}`+"\n",
		when.UTC().Format(time.RFC3339), path, tokenOfSeven, body)
}

// TestWhoAsksIsKnownOfAWholeBatch checks that an answer that tells who holds credentials counts for calls before it and
// behind it, in an upload, in the chunks of a recorder and in calls judged anew, with bodies kept and without.
func TestWhoAsksIsKnownOfAWholeBatch(t *testing.T) {
	const list = `[{"ref":"a","skipper":"` + skipperSeven + `"},{"ref":"b","skipper":"bo.tar.8"}]`
	for _, bodies := range []bool{true, false} {
		for _, by := range []string{"upload", "recorder", "recorder, told first"} {
			name := fmt.Sprintf("%s, bodies kept: %v", by, bodies)
			w := whoseWorld(t, bodies)
			mine, me := whoseLine(w.clock.now, "/bookings", list), whoseLine(w.clock.now, "/me", `{"id":"`+skipperSeven+
				`"}`)
			var b store.Batch
			switch by {
			case "upload":
				b = w.upload("a.lines", mine+me)
			case "recorder":
				id := w.begin()
				w.extend(id, 1, mine)
				w.extend(id, 2, me)
				w.end(id)
				b.ID = id
			default:
				id := w.begin()
				w.extend(id, 1, me)
				w.extend(id, 2, mine)
				w.end(id)
				b.ID = id
			}
			told := func(when string) {
				t.Helper()
				var got []string
				for _, f := range w.findings() {
					got = append(got, fmt.Sprint(f.Kind, " ", f.Path, " ", f.Spots))
				}
				b, err := w.Evidence.Batch(t.Context(), b.ID)
				if text := strings.Join(got, ", "); err != nil || text != "foreign-record $[*] 1" ||
					b.Undetermined != 0 {
					t.Errorf("%s, %s: %s, undetermined %d, %v", name, when, text, b.Undetermined, err)
				}
			}
			lateOutline := !bodies && by != "recorder, told first"
			if lateOutline { // what the values were is gone before it is told who asked
				b, err := w.Evidence.Batch(t.Context(), b.ID)
				if err != nil || len(w.findings()) != 0 || b.Undetermined != 2 {
					t.Errorf("%s: %v, %v, %v", name, b.Undetermined, w.findings(), err)
				}
			} else {
				told("at first")
			}
			if by != "recorder" || bodies {
				if _, err := w.Evidence.Correct(t.Context(), w.who, b.ID, evidence.Said{}); err != nil {
					t.Fatal(name, err)
				}
				if !lateOutline {
					told("judged anew")
				}
			}
			w.holdsNot(tokenOfSeven)
			c, err := w.Review.Coverage(t.Context(), "quay")
			if err != nil || c.Numbers[review.OwnRecords] != 1 || !lateOutline && c.Numbers[review.Undetermined] != 0 {
				t.Errorf("%s: coverage says %v, %v", name, c.Numbers, err)
			}
		}
	}
}

// holdsNot checks that a text stands in no file of the service.
func (w *world) holdsNot(text string) {
	w.t.Helper()
	files, err := filepath.Glob(filepath.Join(w.dir, "*"))
	if err != nil || len(files) == 0 {
		w.t.Fatal(files, err)
	}
	for _, name := range files {
		if data, err := os.ReadFile(name); err == nil && bytes.Contains(data, []byte(text)) {
			w.t.Errorf("%s stands in %s", text, filepath.Base(name))
		}
	}
}

// TestWhoAsksIsNotKnown checks that the coverage says of how many records it is not known whose they are, and
// what would tell.
func TestWhoAsksIsNotKnown(t *testing.T) {
	w := whoseWorld(t, true)
	b := w.upload("a.lines", whoseLine(w.clock.now, "/bookings",
		`[{"ref":"a","skipper":"7"},{"ref":"b","skipper":"8"}]`))
	if b.Undetermined != 2 || len(w.findings()) != 0 {
		t.Errorf("undetermined %d, %+v", b.Undetermined, w.findings())
	}
	c, err := w.Review.Coverage(t.Context(), "quay")
	if err != nil {
		t.Fatal(err)
	}
	found := false
	for _, g := range c.Gaps {
		if g.Kind == review.Undetermined {
			found = g.Records == 2 && g.Of == 2 && strings.Contains(g.Words, "GET /me at $.id")
		}
	}
	if !found {
		t.Errorf("the gaps are %+v", c.Gaps)
	}
	if err := w.Evidence.Withdraw(t.Context(), w.who, b.ID, "gone"); err != nil {
		t.Fatal(err)
	}
	if c, err = w.Review.Coverage(t.Context(), "quay"); err != nil || c.Numbers[review.Undetermined] != 0 ||
		c.Numbers[review.OwnRecords] != 0 {
		t.Errorf("once the batch is gone: %v, %v", c.Numbers, err)
	}
}
