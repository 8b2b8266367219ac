// Package scan evaluates captures. It compares a body with a compiled contract in one pass over its tokens, and
// reports every spot that departs from it, with its place and weight.
//
// A [Judge] evaluates captures one after another. [Judge.Capture] finds the contract of a capture and evaluates its
// body. Memory use does not grow with the body: no tree is built, and caches are bounded.
package scan

import (
	"errors"
	"fmt"
	"hash/maphash"
	"sort"
	"strconv"
	"strings"

	"inkret/core/catalog"
	"inkret/core/contract"
	"inkret/core/detect"
	"inkret/core/exchange"
	"inkret/core/kind"
	"inkret/core/severity"
)

// Judge evaluates captures one after another. It caches what it learns about names, so one Judge for many captures
// is cheaper than one each. It is not safe for concurrent use, but judges may share contracts.
type Judge struct {
	contracts *contract.Contracts // nil sweeps alone
	// Seek, if not nil, says whether it matters what occurs in a capture's bodies: see [Outcome.Places].
	Seek func(*Outcome) bool
	// AnyValue makes telling names count for all values, including null and empty ones. It is used to compare
	// contracts.
	AnyValue bool
	// Counts makes spots of one kind at one path of a body count in the first of them.
	Counts bool
	// Stranger makes up whose records there are; it is used to compare contracts.
	Stranger *Stranger
	// Hash returns the keyed hash of an identity; nil = one that lives as long as the process.
	Hash func([]byte) uint64
	// Print returns the keyed hash of a leaked value; nil = no hashes.
	Print     func(value []byte) uint64
	detectors *detect.Set
	names     map[*catalog.Entity]*names
	roots     map[string]*pathNode // of bodies, by what they stand in
	nodes     int                  // paths kept below them
	exercises map[*contract.Plan]*Exercise
	counted   columns[*Tally]
	dismissed columns[struct{}]
	folded    columns[struct{}]
	guesses   map[*contract.Object]*guesses
	asked     map[askedFor]*contract.Plan
	body      uint64 // counts bodies
	holders   holders
	places    map[string]Presence
	posted    map[string]Presence
	walk      walk

	ahead int // of the window through which long bodies are read
}

// NewJudge returns a judge for contracts. With nil it only sweeps bodies for sensitive values and names.
func NewJudge(contracts *contract.Contracts) *Judge {
	j := &Judge{contracts: contracts, detectors: contracts.Recognised(),
		names: map[*catalog.Entity]*names{}, roots: map[string]*pathNode{}, exercises: map[*contract.Plan]*Exercise{},
		guesses: map[*contract.Object]*guesses{}, holders: holders{}}
	j.walk.judge, j.ahead = j, windowAhead
	return j
}

// Outcome is the result of evaluating one capture.
type Outcome struct {
	Endpoint   string // as the contract writes it, or generalised from the path
	Team       string
	Audience   string
	AudienceBy string
	Status     string // the entry of statuses that matched, else the code
	Known      bool   // a contract has the endpoint
	Response   *contract.Response
	Skipped    string // why it was not judged; empty when it was
	Incomplete string // why a body is not whole: what stands before that was judged
	Spots      []Spot // in the order of their bytes
	Bytes      int    // of the body, its codings undone
	Excess     int    // bytes of what no grant covers
	Body       uint64 // tells equal bodies, while the process lasts; 0 where none is compared
	Result     bool   // it is the result of a query, judged by types
	Refused    bool   // it is one with errors alone
	Unread     string // why it is not known what the request asks for, so that its result was swept
	Heads      bool   // header fields of an answer were looked at
	Words      bool   // the text of an error was looked at
	Names      []Name // that no grant names, those that this judge saw first

	Undetermined Undetermined
	Who          uint64   // keyed hash of who made the request; 0 where that is not known
	Holder       uint64   // keyed hash of what the request was made with; 0 for nothing
	Theirs       []string // pointers of the records that are somebody else's than the caller's

	Answered bool // there is a response, of whatever status
	Selected bool // the request chose some of the members
	// Places and Posted hold the paths of all values in the bodies of the response and of the request, where
	// [Judge.Seek] asks for them. Like the spots they are valid until the next call.
	Places, Posted map[string]Presence

	plan *contract.Plan
}

// bodySeed is the hash seed for recognising equal bodies.
var bodySeed = maphash.MakeSeed()

// Capture evaluates one capture. The outcome's spots are valid until the next call.
func (j *Judge) Capture(c *exchange.Capture) Outcome { return j.Watch(c, nil) }

// Watch is Capture, and reports every value of the body to an observer.
func (j *Judge) Watch(c *exchange.Capture, watch Observer) Outcome {
	out := Outcome{Status: strconv.Itoa(c.Response.Status), Incomplete: c.Incomplete}
	if c.Request.URL == nil {
		if out.Skipped = c.Response.Missing; out.Skipped == "" {
			out.Skipped = "the request has no address that can be read"
		}
		return out
	}
	segments, served := strings.Split(strings.Trim(c.Request.URL.EscapedPath(), "/"), "/"), true
	if j.contracts != nil {
		if segments, served = j.contracts.Serves(c.Request.URL); !served {
			out.Skipped = "another server"
			return out
		}
	}
	if j.contracts != nil && c.Audience != "" && j.contracts.Audience(c.Audience) == nil {
		out.Skipped = fmt.Sprintf("the contract has no audience %q, which the recording names", c.Audience)
		return out
	}
	out.Endpoint = contract.Generalise(c.Request.Method, segments, j.isValue)
	e, plan, choice, audience := j.identify(&out, c, segments)
	out.Answered, out.plan = c.Response.Missing == "" && c.Response.Status > 0, plan
	out.Selected = e != nil && e.Selection != nil && e.Selection.Asked(c.Request.URL) != nil
	j.seek(&out)
	j.who(&out, c)
	asked := j.requestSpots(c, &out, e, segments, choice, audience)
	out.Heads, out.Words = c.Response.Missing == "", looksAtWords(c)
	asked = append(asked, j.headerSpots(c, out.Endpoint, choice.Response)...)
	of, told := j.contracts.MessageOf(e, choice.Response, c.Response.Header.Get("Content-Type"), c.Request.URL.Path)
	if skip := unread(c, told); skip != "" {
		out.Skipped, out.Spots = skip, asked
		if c.Response.Missing == "" && len(c.Response.Body) == 0 && c.Response.Long == nil && !c.Request.Preflight() {
			out.Spots = append(asked, j.undeclared(&out, choice.Response != nil)...)
		}
		out.Spots = append(out.Spots, failing(c)...)
		return out
	}
	if out.Bytes = len(c.Response.Body); c.Response.Long != nil && watch != nil {
		out.Skipped, out.Spots = "a body that is too long to be held cannot be shown", asked
		return out
	}
	w := &j.walk
	judged, unasked := j.asking(c, e, plan)
	w.prepare(c, &out, e, choice, judged)
	out.Unread = unasked
	w.watch, w.message = watch, of
	w.inRun(out.Endpoint, j.Counts && watch == nil)
	if plan != nil && !choice.Wrong {
		w.uneven = e.Uneven(plan, audience)
	}
	all := w.bodies(c, choice.Response, judged)
	spots := all.spots
	w.result(&out, c, judged, spots)
	page := append(failing(c), j.pageSpots(c)...)
	if len(w.parts) == 0 && judged == nil && all.err == nil && len(page) == 0 {
		out.Skipped, out.Spots, out.Bytes = "no JSON is baked into the page", append(asked, page...), 0
		return out
	}
	spots = append(spots, page...)
	if c.Response.Long != nil {
		out.Bytes = all.bytes
	} else if plan != nil && out.Audience != "" && !c.Outlined { // outlines of different bodies may be equal
		out.Body = maphash.Bytes(bodySeed, c.Response.Body)
	}
	j.toldApart(&out, plan, choice)
	out.Excess, w.excess, w.private = all.excess, all.excess, all.private || private(page)
	if all.err == nil {
		spots = append(spots, j.exchangeSpots(c, &out, choice.Response != nil)...)
	}
	out.Spots, out.Names = append(spots, asked...), w.fresh
	switch _, syntax := SyntaxAt(all.err); {
	case syntax:
		out.Skipped = fmt.Sprintf("the body is not %s: %v",
			exchange.Notation(c.Response.Header.Get("Content-Type")), all.err)
	case all.err != nil:
		out.Skipped = all.err.Error()
	}
	out.Skipped = because(c, out.Skipped)
	return out
}

// prepare sets what holds for all bodies of a capture.
func (w *walk) prepare(c *exchange.Capture, out *Outcome, e *contract.Endpoint, choice contract.Choice,
	plan *contract.Plan) {
	w.asked, w.boundary, w.uneven = nil, nil, nil
	w.failed, w.outlined, w.places = c.Response.Status >= 400, c.Outlined, out.Places
	w.who, w.undetermined, w.pathOwner = out.Who, Undetermined{}, ""
	w.areTheirs, w.foundTheirs, w.foundWho = nil, c.Theirs, c.Who != 0
	if choice.Response != nil {
		w.pathOwner = w.judge.contracts.PathOwner(e, choice.Response, c.Request.URL)
	}
	if plan != nil && choice.Wrong {
		w.boundary = plan.Entity
	}
	if out.Selected {
		w.asked = pickTree(e.Selection.Asked(c.Request.URL))
	}
	w.shown = w.judge.exercise(out.plan, out, choice)
}

// because adds a cut-off body as the reason why it could not be read.
func because(c *exchange.Capture, skipped string) string {
	if skipped == "" || c.Incomplete == "" {
		return skipped
	}
	return c.Incomplete + ": " + skipped
}

// Exercise is what captures have shown of one response for one audience.
type Exercise struct {
	Endpoint string
	Audience string
	Status   string
	Captures int
	Whose    Undetermined

	plan  *contract.Plan
	shown []bool // by Serial
}

// Members lists the granted members that were present.
func (e *Exercise) Members() []*contract.Member {
	var all []*contract.Member
	for i, m := range e.plan.Members {
		if e.shown[i] && !m.Foreign {
			all = append(all, m)
		}
	}
	return all
}

// Exercises lists the responses that captures exercised so far.
func (j *Judge) Exercises() []*Exercise {
	all := make([]*Exercise, 0, len(j.exercises))
	for _, e := range j.exercises {
		all = append(all, e)
	}
	sort.Slice(all, func(i, k int) bool {
		a, b := all[i], all[k]
		return a.Endpoint+"\n"+a.Audience+"\n"+a.Status < b.Endpoint+"\n"+b.Audience+"\n"+b.Status
	})
	return all
}

// exercise counts a capture for its response. It returns the flags that mark what is shown.
func (j *Judge) exercise(plan *contract.Plan, out *Outcome, choice contract.Choice) []bool {
	if plan == nil {
		return nil
	}
	if choice.Wrong { // what another audience's response is judged by shows nothing of this one's
		return make([]bool, len(plan.Members))
	}
	e := j.exercises[plan]
	if e == nil {
		e = &Exercise{Endpoint: out.Endpoint, Audience: out.Audience, Status: out.Status, plan: plan,
			shown: make([]bool, len(plan.Members))}
		j.exercises[plan] = e
	}
	e.Captures++
	return e.shown
}

// identify finds endpoint, audience and response, once per capture. The plan is nil if the body is to be swept.
func (j *Judge) identify(out *Outcome, c *exchange.Capture,
	segments []string) (*contract.Endpoint, *contract.Plan, contract.Choice, *contract.Audience) {
	if j.contracts == nil {
		if out.Audience = c.Audience; c.Audience != "" {
			out.AudienceBy = contract.Said
		}
		return nil, nil, contract.Choice{}, nil
	}
	audience, by := j.contracts.AudienceOf(c.Audience, &c.Request)
	if known := j.contracts.Audience(c.Caller); known != nil && by != contract.Said {
		audience, by = known, contract.Recognised
	}
	if audience != nil {
		out.Audience, out.AudienceBy = audience.Name, by
	}
	e := j.contracts.Find(c.Request.Method, segments)
	if e == nil {
		return nil, nil, contract.Choice{}, audience
	}
	out.Known, out.Endpoint, out.Team = true, e.Text, e.Team
	choice := e.Choose(audience, c)
	if choice.Response == nil {
		return e, nil, choice, audience
	}
	out.Response, out.Status = choice.Response, choice.Status
	if choice.Response.Name != "" {
		out.Endpoint += " [" + choice.Response.Name + "]"
	}
	return e, e.Plan(choice, c.Response.Status), choice, audience
}

// unread returns why a body is not evaluated, or the empty string. told says that a contract tells what messages it
// consists of.
func unread(c *exchange.Capture, told bool) string {
	switch {
	case c.Response.Missing != "":
		return because(c, c.Response.Missing)
	case c.Request.Preflight():
		return "a CORS preflight"
	case c.Request.Method == "HEAD":
		return "the answer to HEAD has no body"
	case c.Response.Status == 204 || c.Response.Status == 304:
		return fmt.Sprintf("an answer with status %d has no body", c.Response.Status)
	case c.Response.Long != nil:
		if err := exchange.ReadableLong(c.Response.Header.Get("Content-Type")); err != nil {
			return err.Error()
		}
		return ""
	case len(c.Response.Body) == 0:
		return because(c, "the body is empty")
	}
	media := c.Response.Header.Get("Content-Type")
	switch {
	case exchange.HoldsMessages(media) && told:
		return ""
	case exchange.HoldsMessages(media):
		return because(c, "a body of messages, and no contract says of which: `protobuf` names a descriptor set")
	}
	if err := exchange.Readable(media, c.Response.Body); err != nil {
		return because(c, err.Error())
	}
	return ""
}

// body evaluates a whole body. It takes a second pass if `at` is absent and the body itself is the entity.
func (w *walk) body(of text) error {
	w.reset(of)
	switch {
	case w.plan == nil:
		w.sweep(zone{cover: w.cover}, nil, nil, w.begin())
	case w.plan.Bare != nil && !w.plan.Listed && w.space() == '[':
		w.again(of)
		if !w.bareSeen && w.err == nil { // no entity in sight: sweep what there is
			w.reset(of)
			w.sweep(zone{}, nil, nil, w.begin())
			w.absent()
		}
	default:
		w.granted(w.plan.Root, own, whole, w.begin(), nil)
		if w.wayMissing && w.bareSeen && w.err == nil {
			w.again(of)
		}
	}
	if w.err == nil && w.space() != 0 || w.err == nil && w.pos < len(w.data) {
		w.fail(w.pos, "something follows the value")
	}
	if w.err == nil && w.follows { // nothing but space so far
		w.short = true
	}
	if w.err == nil && w.readErr != nil {
		w.fail(len(w.data), "")
	}
	if w.err != nil {
		return w.err
	}
	return nil
}

func (w *walk) begin() int {
	w.space()
	return w.off()
}

// again evaluates the body itself as the entity.
func (w *walk) again(of text) {
	w.reset(of)
	w.bare = true
	if w.boundary != nil {
		w.boundary = w.plan.Bare
	}
	at := whole
	if w.space() == '[' { // its elements are the entity
		many := *w.plan.Bare
		many.Many = true
		if w.boundary != nil {
			w.boundary = &many
		}
		w.granted(&many, own, whole, w.begin(), nil)
	} else {
		if w.plan.Bare.Many {
			at = element // no second report of what `at` says already
		}
		w.granted(w.plan.Bare, own, at, w.begin(), nil)
	}
	if w.err == nil {
		w.absent()
	}
}

// absent reports that the first member of `at` is missing.
func (w *walk) absent() {
	if w.plan.Root.Object == nil || w.boundary != nil {
		return
	}
	for _, m := range w.plan.Root.Object.Members {
		if m.Way {
			w.segs = w.segs[:0]
			w.member(m.Text)
			w.emitAt(&candidate{kind: kind.MissingField, severity: severity.Low, grant: m.Grant,
				reason: "the place where the entity is granted is absent"}, 0, 0, "")
			w.pop()
		}
	}
}

// finish returns the spots of the pass in byte order.
func (w *walk) finish() []Spot {
	pointers := string(w.pointers)
	left := 0
	for i := range w.spots {
		s := &w.spots[i]
		if s.Kind == 0 {
			continue
		}
		if s.Pointer = pointers[w.cuts[i]:s.pointerEnd]; w.prefixPointer != "" {
			s.Pointer = strings.TrimRight(w.prefixPointer+s.Pointer, " ")
		}
		if w.part != nil || w.nesting > 0 {
			s.Bytes, s.Offset = w.weight(s.Offset, s.Offset+s.Bytes), w.origin(s.Offset)
		}
		s.Bytes += s.counted
		if left < i {
			w.spots[left] = *s
		}
		left++
	}
	spots := w.spots[:left]
	byOffset := func(i, k int) bool { return spots[i].Offset < spots[k].Offset }
	if !sort.SliceIsSorted(spots, byOffset) {
		sort.SliceStable(spots, byOffset)
	}
	return spots
}

// SyntaxAt returns the byte at which a body is invalid, if err says so.
func SyntaxAt(err error) (int, bool) {
	var syntax *SyntaxError
	if errors.As(err, &syntax) {
		return syntax.Offset, true
	}
	return 0, false
}
