package compare

import (
	"bytes"
	"flag"
	"fmt"
	"math"
	"slices"
	"strings"
	"testing"

	"inkret/core/catalog"
	"inkret/core/contract"
	"inkret/core/exchange"
	"inkret/core/kind"
	"inkret/core/made"
	"inkret/core/probe"
	"inkret/core/scan"
)

// pairs is the number of pairs of contracts; go test ./core/compare -pairs 5000 tries more than usual.
var pairs = flag.Int("pairs", 300, "pairs of contracts that are compared")

// TestCompareAgreesWithTheJudge compares random contracts, changes and exchanges with the judge. Where the judge
// reports something under the old contracts and not under the new ones, the change must widen, with at least that
// class. Where no exchange shows that, it should hardly ever.
func TestCompareAgreesWithTheJudge(t *testing.T) {
	pairs := *pairs
	if testing.Short() {
		pairs /= 5
	}
	const exchanges, more = 40, 3000
	widened, shown, alarms := 0, 0, 0
	for seed, done := uint64(1), 0; done < pairs; seed++ {
		m := made.New(seed)
		a, b := m.Contract(), m.Contract()
		old, err := contract.Read(contract.File{Name: "old.yaml", Data: made.JSON(a)})
		if err != nil {
			continue
		}
		changed := m.Change(a, b, 1+m.IntN(3))
		new, err := contract.Read(contract.File{Name: "new.yaml", Data: made.JSON(changed)})
		if err != nil || bytes.Equal(made.JSON(a), made.JSON(changed)) {
			continue
		}
		done++
		d := Contracts(old, new)
		j := newJudges(old, new)
		lost := false
		for range exchanges {
			if c := m.Exchange(a, changed); j.loses(c) {
				lost = true
				if d.Direction != Widening || d.Reaches < j.class {
					t.Errorf("seed %d: it is %s reaching %v, but no longer reports %v (%v, %v) at %s as %s to\n%s "+
						"%s %v %s\nanswered %d %s\n%s%v", seed, d.Direction, d.Reaches, j.spot.Kind, j.spot.Severity,
						j.class, j.spot.Pointer, j.audience,
						c.Request.Method, c.Request.URL, c.Request.Header, c.Request.Body, c.Response.Status,
						c.Response.Body, differing("", a, changed), d.Words)
					break
				}
			}
		}
		if d.Direction != Widening {
			continue
		}
		widened++
		for i := 0; i < more && !lost; i++ {
			lost = j.loses(m.Exchange(a, changed))
		}
		switch {
		case lost || len(probe.Lost(old, new)) > 0: // what is probed is exchanges, too
			shown++
		case said(d):
		default:
			alarms++
			t.Logf("seed %d: %v, and no exchange shows it\n%s", seed, d.Words, differing("", a, changed))
		}
	}
	t.Logf("%d pairs, %d widen, %d of these shown by an exchange, %d by none", pairs, widened, shown, alarms)
	// one in a hundred, plus what chance adds in a small sample
	if most := float64(pairs) / 100; float64(alarms) > most+2*math.Sqrt(most) {

		t.Errorf("%d of %d pairs are said to widen, and no exchange of thousands shows it", alarms, pairs)
	}
}

// said reports whether a change always widens by the specification: a field with a lower class, an exception, or a
// removed audience that recordings name.
func said(d *Difference) bool {
	return slices.ContainsFunc(d.Changes, func(c Change) bool {
		return c.Direction == Widening && (c.What == "class" || c.What == "exception" || c.What == "audience")
	})
}

// judges returns the judges of old and new contracts, exactly as section 10 of the specification defines them.
type judges struct {
	old, new             *contract.Contracts
	before, after, other *scan.Judge

	spot     scan.Spot // that is lost
	audience string
	class    catalog.Class
}

func newJudges(old, new *contract.Contracts) *judges {
	j := &judges{old: old, new: new, before: scan.NewJudge(old), after: scan.NewJudge(new), other: scan.NewJudge(old)}
	for _, one := range []*scan.Judge{j.before, j.after, j.other} {
		one.AnyValue = true // as the comparison does: names count whatever the value looks like
	}
	return j
}

// loses reports whether something in an exchange is reported under the old contracts and not, or less severely,
// under the new ones.
func (j *judges) loses(c *exchange.Capture) bool {
	was := j.before.Capture(c)
	spots := append([]scan.Spot(nil), was.Spots...)
	audience := was.Audience
	now := append([]scan.Spot(nil), j.after.Capture(c).Spots...)
	lost := false
	j.class = 0
	if was.Response != nil && len(was.Response.At) > 0 && !bytes.Contains(c.Response.Body, []byte(`"data"`)) {
		return false // which objects are judged where the entity is not is guessed from their names
	}
	for _, s := range spots {
		if s.Kind == kind.MissingField || s.Kind == kind.UnevenExposure || stands(j.old, spots, now, s) ||
			j.ordered(c, audience, s) {
			continue
		}
		if !lost || s.Class > j.class {
			j.spot, j.audience, j.class = s, audience, s.Class
		}
		lost = true
	}
	return lost
}

// stands reports whether a spot is still as severe, or a different spot around or inside it is.
func stands(old *contract.Contracts, was, now []scan.Spot, s scan.Spot) bool {
	for _, o := range now {
		if o.Request == s.Request && o.Pointer == s.Pointer && stillSaid(old, s, o) {
			return true
		}
		// what is not granted as a whole stands for all in it but what is sensitive by itself
		whole := o.Kind == kind.UnexpectedRelation && strings.HasPrefix(s.Pointer, o.Pointer+"/")
		if o.Request != s.Request || o.Severity < s.Severity && !whole {
			continue
		}
		if o.Pointer == s.Pointer {
			return true
		}
		instead := strings.HasPrefix(o.Pointer+"/", s.Pointer+"/") || strings.HasPrefix(s.Pointer+"/", o.Pointer+"/")
		if instead && !slices.ContainsFunc(was, func(before scan.Spot) bool {
			return before.Request == o.Request && before.Pointer == o.Pointer && before.Kind == o.Kind &&
				before.Severity >= o.Severity
		}) {
			return true
		}
	}
	return false
}

// stillSaid reports whether a spot at the same place still says as much, whatever its severity. A spot that covers
// all below it is as severe as the grants in it; once it is there, it counts for itself. A renamed field says less
// than one that is not granted.
func stillSaid(old *contract.Contracts, was, now scan.Spot) bool {
	switch was.Kind {
	case kind.WrongAudience, kind.UnexpectedRelation:
		e := old.Catalog.Entity(was.Entity)
		whole := was.Field == "" || e != nil && e.Relation(was.Field) != nil
		return whole && (now.Kind.Exposure() || now.Kind == kind.WrongAudience)
	case kind.RenamedField:
		return now.Kind == kind.UnexpectedField || now.Kind == kind.SensitiveField
	}
	return false
}

// ordered reports whether the audience is more trusted, in both orders, than one that already got the same.
func (j *judges) ordered(c *exchange.Capture, audience string, s scan.Spot) bool {
	whose, now := j.old.Audience(audience), j.new.Audience(audience)
	if whose == nil || now == nil || s.Request {
		return false
	}
	for _, a := range j.old.Audiences {
		b := j.new.Audience(a.Name)
		if b == nil || a.Index >= whose.Index || b.Index >= now.Index {
			continue
		}
		said := *c
		said.Audience = a.Name
		out := j.other.Capture(&said)
		reported := func(o scan.Spot) bool { // unless that audience got it in another form
			return o.Request == s.Request && o.Kind != kind.ValueMismatch && o.Severity >= s.Severity &&
				strings.HasPrefix(s.Pointer+"/", o.Pointer+"/")
		}
		if out.Response != nil && !slices.ContainsFunc(out.Spots, reported) {
			return true
		}
	}
	return false
}

// differing lists where two contracts differ.
func differing(at string, a, b any) string {
	x, isTree := a.(made.Tree)
	y, both := b.(made.Tree)
	if !isTree || !both {
		v, isList := a.([]any)
		w, both := b.([]any)
		if isList && both && len(v) == len(w) {
			out := ""
			for i := range v {
				out += differing(fmt.Sprintf("%s/%d", at, i), v[i], w[i])
			}
			return out
		}
		if string(made.JSON(a)) == string(made.JSON(b)) {
			return ""
		}
		return fmt.Sprintf("%s: %s instead of %s\n", at, made.JSON(b), made.JSON(a))
	}
	out := ""
	for key := range x {
		if _, there := y[key]; !there {
			out += fmt.Sprintf("%s/%s: gone, was %s\n", at, key, made.JSON(x[key]))
			continue
		}
		out += differing(at+"/"+key, x[key], y[key])
	}
	for key := range y {
		if _, there := x[key]; !there {
			out += fmt.Sprintf("%s/%s: new, %s\n", at, key, made.JSON(y[key]))
		}
	}
	return out
}
