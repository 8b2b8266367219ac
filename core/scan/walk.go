package scan

import (
	"fmt"

	"inkret/core/catalog"
	"inkret/core/contract"
	"inkret/core/detect"
	"inkret/core/exchange"
)

// mode is how the grants of a place apply.
type mode uint8

const (
	own     mode = iota // granted to this audience
	loud                // a body of another audience: what even that is not granted stands for itself
	foreign             // a relation of other audiences: one spot stands for all of it
	posted              // a request: what is not accepted is a spot, and nothing else is
)

// level is how far inside a grant a value is.
type level uint8

const (
	whole   level = iota // the member's own value
	keyed                // the value of a member of a map
	element              // an element of an array
)

// seg is one step of the path to the value being read.
type seg struct {
	name   []byte           // of a member; nil for an element
	masked string           // stands for the name in pointers when it is sensitive
	index  int              // of an element
	any    bool             // [*] in paths
	nth    bool             // its index counts in paths
	node   *pathNode        // once it was needed
	typed  *contract.Object // granted by type, whose member it is: paths begin at the type
	label  []byte           // stands for the name in paths: a field that a query calls otherwise
}

// word returns the name as paths have it.
func (g *seg) word() []byte {
	if g.label != nil {
		return g.label
	}
	return g.name
}

// nameInfo is what a member name says by itself.
type nameInfo struct {
	telling catalog.Class
	data    bool           // the name is data, not a word: [*] in paths
	beside  string         // where what it tells stands, if it is not the member's own name
	part    detect.Part    // of a pair, such as {"key": "password", "value": "x"}
	tells   detect.Telling // telling, with the form of the values that it is told of
	hit     detect.Hit
	masked  string
}

// verdict is what a name without a grant stands for in an object.
type verdict struct {
	nameInfo
	field     *catalog.Field
	relation  *catalog.Relation
	related   *catalog.Entity
	plain     bool     // where only what is sensitive counts it gives nothing
	kept      bool     // for all bodies
	key       string   // see [contract.Key]
	sightings int      // up to the most that are noted
	next      *verdict // on the member that came behind it last
	apart     *verdict // on the same name, where its column tells that it is nothing
}

// maxNames limits the cached verdicts per entity, because hostile bodies can make up names without end.
const maxNames = 8192

// walk evaluates bodies. Its state is grouped by lifetime: a capture, one of its bodies, and one pass over that
// body. Buffers are reused.
type walk struct {
	tokens
	judge *Judge
	watch Observer
	ofCapture
	ofBody
	ofPass

	segs      []seg                       // the way to the value being read
	wide      map[int]map[string]struct{} // the names of wide objects, by where theirs begin in names
	names     [][]byte                    // member names that no bit of seen stands for, a frame each open object
	strays    []stray                     // unexpected fields, a frame each open object
	doubled   map[string]struct{}         // the pointers of members that stand twice
	absentees []*contract.Member          // of the object that ends
	seen      []uint64                    // bits of the members seen, a frame each open object
	pool      candidates
	spots     []Spot
	pointers  []byte // of all spots, one after the other
	cuts      []int  // where each spot's pointer ends
	scratch   []byte
	window    window
	ofRun
}

// ofRun holds what concerns a capture as part of a run.
type ofRun struct {
	counts   bool                // see [Judge.Counts]
	endpoint string              // see [Outcome]
	side     side                // its columns
	closely  bool                // harmless values are looked at, too
	fresh    []Name              // names that no grant names
	folds    map[string]struct{} // places below which names are data
}

// ofCapture holds for all bodies of a capture.
type ofCapture struct {
	plan     *contract.Plan
	boundary *contract.Member    // where a body of another audience begins; nil for one's own
	asked    *pick               // members asked for by a selection; nil asks for all
	failed   bool                // the status says that the request failed
	outlined bool                // its values stand in for others
	uneven   []string            // by the members' serials: why they are told as uneven; nil where none are
	shown    []bool              // by the members' serials in plan: those that were there
	places   map[string]Presence // of values, if it matters what occurs

	who          uint64 // who made the request, as a keyed hash; 0 where that is not known
	pathOwner    string // whose record it is by the request's path
	undetermined Undetermined
	areTheirs    []string // pointers of records that are somebody else's
	foundWho     bool     // who made the request was known when the values were
	foundTheirs  []string // the same, as it was found out before the values became an outline

	message exchange.Message // that it consists of, where it does
	queried
	parts []exchange.Part // of its body
	met   int             // bodies of inner that are not in the one being read
	inner []inner         // bodies to be judged, those found inside of others behind them
}

// ofBody holds for one body: the whole, a part, or one inside another.
type ofBody struct {
	part          *exchange.Part // that is being read, where it is not the body byte by byte
	prefixPath    string         // of places in a body inside another
	prefixPointer string
	base          int           // where in the capture's body it stands
	nesting       int           // bodies around it
	cover         catalog.Class // classes granted where it stands
}

// ofPass holds for one pass over a body. A body is read twice if `at` is absent.
type ofPass struct {
	root   *pathNode       // of the paths in it
	stray  *verdict        // on the member without a grant that is about to be read
	apart  *contract.Stray // the same, where a query asks for it
	picked *pick           // what was asked for of the object being read; nil is all
	excess int
	grave  bool // something personal or secret was found since it was cleared
	depth  int

	wayMissing bool // the first member of `at` is absent
	bareSeen   bool // the body itself has a member that the entity grants
	bare       bool // this pass judges the body itself as the entity

	theirs  bool // the member about to be read is of somebody else's record
	strange int  // how many parts around it are somebody else's

	tabled       bool   // inside of a table or its names, where no other is looked for
	embeddedText []byte // JSON that the string just read holds

	private      bool   // something personal or secret is in the body
	askedGranted bool   // a member that was asked for is granted
	unasked      string // a granted member that was sent and not asked for
}

// reset starts a pass over a body.
func (w *walk) reset(of text) {
	w.open(of)
	w.ofPass = ofPass{}
	w.segs, w.seen, w.spots = w.segs[:0], w.seen[:0], w.spots[:0]
	w.pointers, w.cuts, w.names = w.pointers[:0], w.cuts[:0], w.names[:0]
	w.pool, w.inner = w.pool[:0], w.inner[:w.met]
	clear(w.wide)
	clear(w.doubled)
	w.judge.body++
	w.root = w.judge.rootOf(w.prefixPath)
	w.sought, w.later = false, 0
	if w.nesting == 0 {
		w.errored, w.given = false, false
	}
	if w.watch != nil {
		w.watch.Begin(w.prefixPointer, of.data, w.plan != nil)
	}
}

// inRun prepares for a capture as part of a run.
func (w *walk) inRun(endpoint string, counts bool) {
	w.ofRun = ofRun{endpoint: endpoint, counts: counts, side: w.judge.sideOf(endpoint, false),
		folds: w.judge.foldedAt(endpoint)}
	w.closely = w.outlined || w.side.counted != nil
}

// names caches the verdicts on names in objects of one entity.
type names struct {
	known map[string]*verdict
	first *verdict // on the member that the last object of these began with
}

func (j *Judge) namesOf(entity *catalog.Entity) *names {
	n := j.names[entity]
	if n == nil {
		n = &names{known: map[string]*verdict{}}
		j.names[entity] = n
	}
	return n
}

// verdict returns what name stands for in an object of entity.
func (j *Judge) verdict(entity *catalog.Entity, name []byte) *verdict {
	n := j.namesOf(entity)
	if v := n.known[string(name)]; v != nil {
		return v
	}
	v := &verdict{nameInfo: j.nameInfo(name), key: contract.Key(string(name))}
	if v.field, v.relation = entity.Lookup(string(name)); v.relation != nil {
		v.related = j.contracts.Catalog.Entity(v.relation.Entity)
	}
	v.plain = !v.hit.Found() && v.telling == catalog.Unclassed && (v.field == nil || v.field.Class < catalog.Personal)
	if v.kept = len(n.known) < maxNames; v.kept {
		n.known[string(name)] = v
	}
	return v
}

// dataName reports whether a name is digits, 16 or more hexadecimal digits, or a UUID (RFC 9562).
func dataName(name []byte) bool {
	const fewHex = 16
	decimal, hex := len(name) > 0, len(name) >= fewHex
	for _, c := range name {
		decimal, hex = decimal && c-'0' < 10, hex && isHex(c)
	}
	return decimal || hex || isUUID(name)
}

func isHex(c byte) bool { return hexDigit(c) >= 0 }

// isUUID reports whether a text has the form of RFC 9562.
func isUUID(text []byte) bool {
	const form = "xxxxxxxx-xxxx-xxxx-xxxx-xxxxxxxxxxxx"
	if len(text) != len(form) {
		return false
	}
	for i, c := range text {
		if (form[i] == '-') != (c == '-') || c != '-' && !isHex(c) {
			return false
		}
	}
	return true
}

func (j *Judge) nameInfo(name []byte) nameInfo {
	info := nameInfo{tells: detect.Tell(name), hit: j.detectors.Value(name, detect.TraitsOf(name))}
	info.telling = info.tells.Class
	if !info.hit.Found() {
		info.hit = detect.Stood(name) // in an outline
	}
	info.part = detect.PartOf(name)
	info.data = info.hit.Found() || dataName(name)
	if info.hit.Found() { // it is a value, and no word that could tell anything
		info.telling, info.masked = catalog.Unclassed, detect.MaskPart(name, info.hit)
	}
	return info
}

// isValue reports whether a text is recognised as a value that must not be shown.
func (j *Judge) isValue(text []byte) bool {
	return j.detectors.Value(text, detect.TraitsOf(text)).Found() || detect.Stood(text).Found()
}

// rename moves a member's step on to the next member of its object.
func (g *seg) rename(name []byte) {
	if g.name = name; g.any || g.node != nil || g.label != nil {
		g.any, g.masked, g.node, g.label = false, "", nil, nil
	}
}

// member pushes a step for a member; pop removes it.
func (w *walk) member(name []byte) { w.segs = append(w.segs, seg{name: name}) }

func (w *walk) pop() { w.segs = w.segs[:len(w.segs)-1] }

func (w *walk) enter() bool {
	if w.depth++; w.depth > maxDepth {
		return w.fail(w.pos, fmt.Sprintf("the body nests deeper than %d levels", maxDepth))
	}
	return true
}

// name reads a member's name and colon. It returns the decoded name and its first byte; more is false at the end of
// the object or of the body.
func (w *walk) name(first bool) (name []byte, start int, more bool) {
	c := w.space()
	if c == '}' && first {
		w.pos++
		return nil, 0, false
	}
	if c != '"' {
		w.fail(w.pos, "a member needs a name in quotes here")
		return nil, 0, false
	}
	start = w.off()
	s, ok := w.tokens.string()
	if !ok || !w.colon() {
		return nil, 0, false
	}
	if s.escaped {
		return unquote(nil, s.raw), start, true
	}
	return s.raw, start, true
}
