package service

import (
	"errors"
	"flag"
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
	"time"

	"inkret/core/finding"
	"inkret/core/severity"
	"inkret/service/base"
	"inkret/service/evidence"
	"inkret/service/findings"
	"inkret/service/review"
	"inkret/store"
)

// steps is how many random events happen; go test ./service -run Random -steps 20000 makes more than usual.
var steps = flag.Int("steps", 400, "things that happen at random to findings")

// bodies are what skippers are answered at random.
var bodies = []string{clean, leaky, `{"id":7,"name":"Ada","email":"ada@sails.example"}`,
	`{"id":7,"name":"Ada","shoe":"38"}`, `{"id":7,"name":"Ada","crew":{"x":1}}`,
	`{"id":7,"name":"Ada","crew":{"password_hash":"` + secretHash + `"}}`, `{"id":"7","shoe":39}`,
	`{"id":7,"name":"Ada","email":null,"shoe":null}`}

// contractsAtRandom are what is put in force, by what is replaced in the harbour's.
var contractsAtRandom = [][]string{nil, {"name: }", "name: , shoe: {type: string, optional: true}}"},
	{"name: }", "name: , email: {optional: true}}"}, {"/skippers/{id}", "/skippers/{skipper}"},
	{"endpoints:\n", "exceptions: [{endpoint: 'GET /skippers/{id}', path: $.shoe, kind: unexpected-field, reason: " +
		"worn in, until: 2026-05-20}]\nendpoints:\n"},
	{"{entity: Skipper, grants", "{name: card, entity: Skipper, grants"}, {"{id: , name: }", "{id: }"}}

// chaos lets things happen to a world at random.
type chaos struct {
	*world
	*rand.Rand
	callers []base.Caller
	live    int64
	chunk   int
	uploads int
}

// TestFindingsAtRandom makes random events: recordings come, grow, are corrected and withdrawn, contracts change,
// people decide, ask, approve, decline and undo, days pass. After each, whatever counts findings agrees with the
// list, each finding agrees with its records and its history, and no severe finding leaves the list by one person's
// hand.
func TestFindingsAtRandom(t *testing.T) {
	w := newWorld(t)
	c := &chaos{world: w, Rand: rand.New(rand.NewPCG(18, 27))}
	for _, p := range []struct{ name, role string }{{"Teodor", base.Lead}, {"Iva", base.Lead}, {"Oda", base.Reviewer},
		{"Marlo", base.Administrator}} {
		c.callers = append(c.callers, w.person(p.name, p.role))
	}
	c.callers = append(c.callers, w.who)
	most := *steps
	if testing.Short() {
		most /= 4
	}
	done := map[string]int{}
	var last []string
	for i := range most {
		what, err := c.happen()
		switch p := (*base.Problem)(nil); {
		case err == nil:
			done[what]++
		case errors.As(err, new(*evidence.Waits)):
			done[what+", asked for"]++
		case !errors.As(err, &p): // a refusal is fine
			t.Fatalf("step %d, %s: %v", i, what, err)
		}
		if last = append(last, fmt.Sprint(what, " ", err)); len(last) > 12 {
			last = last[1:]
		}
		if err := w.disagreement(); err != nil {
			t.Fatalf("after step %d: %v\nthe last steps were\n%s", i, err, strings.Join(last, "\n"))
		}
		if err := c.alone(); err != nil {
			t.Fatalf("after step %d: %v\nthe last steps were\n%s", i, err, strings.Join(last, "\n"))
		}
	}
	if len(done) < 12 && most >= 400 {
		t.Errorf("only this happened: %v", done)
	}
	t.Log(done)
}

// happen lets one thing happen, and tells what.
func (c *chaos) happen() (string, error) {
	ctx, who := c.t.Context(), c.callers[c.IntN(len(c.callers))]
	some := func() string {
		all := c.findings()
		if len(all) == 0 {
			return "none"
		}
		return all[c.IntN(len(all))].ID
	}
	state := finding.States()[c.IntN(len(finding.States()))]
	wish := findings.Wish{To: state, Comment: "because"}
	if state == finding.Waived {
		wish.Until = c.clock.now.AddDate(0, 0, 1+c.IntN(9)).Format(time.DateOnly)
	}
	switch c.IntN(20) {
	case 0, 1, 2:
		c.uploads++
		text := ""
		for range 1 + c.IntN(3) {
			text += at(c.clock.now.Add(-time.Duration(c.IntN(60))*time.Minute), bodies[c.IntN(len(bodies))])
		}
		if c.IntN(3) == 0 {
			text = recording(bodies[c.IntN(len(bodies))], clean)
		}
		// no two recordings are equal
		_, err := c.Evidence.Upload(ctx, who, "quay", fmt.Sprintf("%d.har", c.uploads), evidence.Said{},
			strings.NewReader(text+strings.Repeat(" ", c.uploads)))
		return "recording", err
	case 3:
		if c.live == 0 {
			b, err := c.Evidence.OpenLive(ctx, who, "quay", "live", "")
			c.live, c.chunk = b.ID, 0
			return "begin", err
		}
		c.chunk++
		_, err := c.Evidence.ExtendLive(ctx, who, c.live, c.chunk, 0,
			strings.NewReader(at(c.clock.now, bodies[c.IntN(len(bodies))])))
		return "chunk", err
	case 4:
		if c.live == 0 || c.IntN(3) > 0 {
			return "nothing", nil
		}
		_, err := c.Evidence.CloseLive(ctx, who, c.live, 0)
		c.live = 0
		return "end", err
	case 5, 6:
		all, _, err := c.Evidence.Batches(ctx, base.Page{Number: 1, Size: 100})
		if err != nil || len(all) == 0 {
			return "nothing", err
		}
		b := all[c.IntN(len(all))]
		if c.IntN(2) == 0 {
			_, err = c.Evidence.Correct(ctx, who, b.ID,
				evidence.Said{Audience: []string{"", "visitor", "office"}[c.IntN(3)]})
			return "correction", err
		}
		if b.ID == c.live {
			return "nothing", nil
		}
		return "withdrawal", c.Evidence.Withdraw(ctx, who, b.ID, "it was a trial")
	case 7, 8:
		_, _, err := c.Review.Apply(ctx, who, "quay",
			review.Proposed{Files: quay(c.t, contractsAtRandom[c.IntN(len(contractsAtRandom))]...), Reason: "because"})
		return "contracts", err
	case 9, 10:
		waiting, _, err := c.Review.Revisions(ctx, "quay", store.Waiting, base.Page{Number: 1, Size: 10})
		if err != nil || len(waiting) == 0 {
			return "nothing", err
		}
		_, err = c.Review.Decide(ctx, who, "quay", waiting[0].Number, review.Decision{Grant: c.IntN(3) > 0,
			Comment: "because"})
		return "decision", err
	case 11, 12, 13:
		_, err := c.Findings.ChangeFindings(ctx, who, []string{some()}, nil, wish)
		return "move", err
	case 14:
		ids := []string{some(), some(), some()}
		slices.Sort(ids)
		wish.Add = []string{"summer"}
		_, err := c.Findings.ChangeFindings(ctx, who, slices.Compact(ids), nil, wish)
		return "moves", err
	case 15:
		changes, err := c.Findings.Changes(ctx)
		if err != nil || len(changes) == 0 {
			return "nothing", err
		}
		_, _, err = c.Findings.UndoChange(ctx, who, changes[c.IntN(min(len(changes), 4))].ID)
		return "undo", err
	case 16:
		_, err := c.Findings.ChangeFindings(ctx, who, []string{some()}, nil, findings.Wish{Decline: true,
			Comment: "no"})
		return "declined", err
	case 17:
		// whatever waits for a second person is approved by whoever may
		for _, f := range c.findings() {
			if f.AskedTo != "" {
				_, err := c.Findings.ChangeFindings(ctx, who, []string{f.ID}, nil,
					findings.Wish{To: finding.State(f.AskedTo),
						Comment: "yes"})
				return "approval", err
			}
		}
		return "nothing", nil
	case 18:
		c.clock.now = c.clock.now.AddDate(0, 0, c.IntN(3)).Add(time.Minute)
		return "days", c.Findings.EndWaivers(ctx)
	}
	c.clock.now = c.clock.now.Add(time.Hour)
	_, err := c.Findings.Comment(ctx, who, some(), "a word")
	return "comment", err
}

// alone describes a severe finding that one person alone took off the list, or a revision in force that one person
// alone widened to personal or secret fields.
func (c *chaos) alone() error {
	revisions, _, err := c.Review.Revisions(c.t.Context(), "quay", "", base.Page{Number: 1, Size: 5})
	if err != nil {
		return err
	}
	for _, r := range revisions {
		if r.Base > 0 && (r.State == store.InForce || r.State == store.Earlier) && (r.Reaches == "personal" ||
			r.Reaches == "secret") && (r.DecidedBy == "" || r.DecidedBy == r.Author) {
			return fmt.Errorf("revision %d reaches %s and is %s by one person's hand: %v", r.Number, r.Reaches, r.State,
				r.Words)
		}
	}
	for _, f := range c.findings() {
		if f.Severity < int(severity.High) || f.State != "waived" && f.State != "not-a-leak" {
			continue
		}
		v, err := c.Findings.Finding(c.t.Context(), c.who, f.ID)
		if err != nil {
			return err
		}
		people := map[string]bool{}
		severe, turned := false, ""
		for _, e := range v.History {
			switch {
			case e.Kind == "waiver" && e.Became == "asked for", e.Kind == "move" && e.Became == f.State:
				people[e.Author] = true
				turned = e.Kind
				if e.Revision > 0 { // its author, and who approved it
					r, err := c.Review.RevisionOf(c.t.Context(), "quay", e.Revision)
					if err != nil {
						return err
					}
					people[r.Author] = true
					if r.DecidedBy != "" {
						people[r.DecidedBy] = true
					}
				}
			case e.Kind == "severity":
				severe = true // what turned severe later returns when it is seen, or was decided as less
			}
		}
		if len(people) < 2 && !severe && turned != "" {
			return fmt.Errorf("%s (%v) is %s by one person's hand: %+v", v.Path, severity.Severity(v.Severity), v.State,
				v.History)
		}
	}
	return nil
}
