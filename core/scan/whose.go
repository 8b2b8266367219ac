package scan

import (
	"hash/maphash"
	"maps"
	"slices"
	"strings"

	"inkret/core/catalog"
	"inkret/core/contract"
	"inkret/core/exchange"
	"inkret/core/kind"
	"inkret/core/severity"
)

// Whose a record is: where grants are limited to the caller's own records, the record's owner is held against who made
// the request. Both are compared as keyed hashes, and what tells who holds credentials is kept as such.

// Undetermined counts the records that something is limited in to the caller's own, and of which it could not be told
// whose they are.
type Undetermined struct {
	Owner  int // the record does not say whose it is
	Caller int // it is not known who made the request
	Of     int // how many records something is limited in, whatever is known of them
}

// Total returns how many records there are.
func (u Undetermined) Total() int { return u.Owner + u.Caller }

// Stranger describes exchanges that are made up: requests of somebody who is told by one of the contracts' tellers
// alone, and who owns no record whose owner is told in one way. See [contract.Teller.Text] and
// [contract.Ownership.Ways].
type Stranger struct{ Teller, Owner string }

// holders is who holds which credentials, by their hashes.
type holders map[uint64]uint64

// disputed stands for credentials that responses say different people hold.
const disputed = 0

// add notes that somebody holds credentials.
func (h holders) add(credentials, who uint64) {
	if had, known := h[credentials]; known && had != who {
		who = disputed
	}
	h[credentials] = who
}

// hashed returns the keyed hash of an identity, which is never 0.
func (j *Judge) hashed(text string) uint64 {
	hash := uint64(0)
	if j.Hash != nil {
		hash = j.Hash([]byte("who\n" + text))
	} else {
		hash = maphash.String(bodySeed, text)
	}
	return max(hash, 1)
}

// Holders returns what responses told of who holds which credentials, by their hashes.
func (j *Judge) Holders() map[uint64]uint64 { return j.holders }

// who notes in out who made a request, and what its response tells of that.
func (j *Judge) who(out *Outcome, c *exchange.Capture) {
	if j.contracts == nil || len(j.contracts.Tellers) == 0 {
		return
	}
	out.Who, out.Holder = c.Who, c.Holder
	if credentials := j.contracts.Credentials(&c.Request); credentials != "" && c.Holder == 0 {
		out.Holder = j.hashed(credentials)
	}
	if who, tells := j.contracts.Tells(c); tells && out.Holder != 0 && !c.Outlined {
		j.holders.add(out.Holder, j.hashed(who))
	}
	if out.Who != 0 {
		return
	}
	held := uint64(0)
	who, known := j.contracts.Who(&c.Request, func(string) (string, bool) {
		held = j.holders[out.Holder]
		return "", held != 0
	})
	switch {
	case known && who != "":
		out.Who = j.hashed(who)
	case known:
		out.Who = held
	}
}

// toldApart notes what the bodies of a capture told of whose records there are.
func (j *Judge) toldApart(out *Outcome, plan *contract.Plan, choice contract.Choice) {
	w := &j.walk
	out.Undetermined, out.Theirs = w.undetermined, w.areTheirs
	if e := j.exercises[plan]; e != nil && !choice.Wrong {
		e.Whose.Owner += w.undetermined.Owner
		e.Whose.Caller += w.undetermined.Caller
		e.Whose.Of += w.undetermined.Of
	}
}

// whose is whose a record is.
type whose uint8

const (
	anyones whose = iota // it is not told, or does not matter
	callers
	theirs // somebody else's
)

// whoseIs returns whose the record is that begins here.
func (w *walk) whoseIs(o *contract.Ownership) whose {
	if s := w.judge.Stranger; s != nil {
		if w.judge.tells(s.Teller) && slices.Contains(o.Ways(), s.Owner) {
			return theirs
		}
		return anyones
	}
	w.undetermined.Of++
	switch {
	case w.who == 0, w.outlined && !w.foundWho: // of an outline nothing can be found out later
		w.undetermined.Caller++
		return anyones
	case w.outlined: // its values are others; what was found out before holds
		if slices.Contains(w.foundTheirs, w.here()) {
			return w.notTheirs()
		}
		return callers
	}
	said, mine := w.owners(o.Owns)
	if !said && o.Path && w.pathOwner != "" {
		said, mine = true, w.judge.hashed(w.pathOwner) == w.who
	}
	switch {
	case !said:
		w.undetermined.Owner++
		return anyones
	case mine:
		return callers
	}
	return w.notTheirs()
}

// mostTheirs is how many records of a capture are noted as somebody else's.
const mostTheirs = 4096

// notTheirs notes that the record that begins here is somebody else's than the caller's.
func (w *walk) notTheirs() whose {
	if len(w.areTheirs) < mostTheirs {
		w.areTheirs = append(w.areTheirs, w.here())
	}
	return theirs
}

// here returns the pointer of the value that begins here.
func (w *walk) here() string { return w.prefixPointer + string(w.pointer(nil)) }

func (j *Judge) tells(text string) bool {
	for _, t := range j.contracts.Tellers {
		if t.Text() == text {
			return true
		}
	}
	return false
}

// owners looks ahead in the record that begins here: whether it says who owns it, and whether one of them is the
// caller.
func (w *walk) owners(owns func(name []byte) contract.Owning) (said, mine bool) {
	t := w.peek()
	said, mine, _ = t.owners(w, owns, w.depth)
	w.peeked(&t)
	return said, mine
}

func (t *tokens) owners(w *walk, owns func(name []byte) contract.Owning, depth int) (said, mine, ok bool) {
	if t.pos++; depth > maxDepth {
		return false, false, false
	}
	for {
		if t.space() != '"' {
			return said, mine, false
		}
		s, ok := t.string()
		if !ok || !t.colon() {
			return said, mine, false
		}
		name := s.raw
		if s.escaped {
			name = unquote(nil, s.raw)
		}
		how := owns(name)
		if !how.Is {
			if !t.pass(depth + 1) {
				return said, mine, false
			}
		} else if said, mine, ok = t.owner(w, how.In, depth+1); said || !ok {
			return said, mine, ok
		}
		if more, _ := t.more('}'); !more {
			return said, mine, true
		}
	}
}

// owner reads the value of a member that says who owns a record. in is the entity of a record that it may hold.
func (t *tokens) owner(w *walk, in *catalog.Entity, depth int) (said, mine, ok bool) {
	switch b := t.space(); b {
	case '{':
		if in == nil {
			return false, false, t.pass(depth)
		}
		from := t.pos
		said, mine, _ = t.owners(w, func(name []byte) contract.Owning { return contract.OwnerIn(in, name) }, depth)
		t.pos = from // wherever that ended
		return said, mine, t.pass(depth)
	case '[':
		t.pos++
		for first := true; ; first = false {
			if t.space() == ']' && first {
				t.pos++
				return said, mine, true
			}
			one, his, ok := t.owner(w, in, depth+1)
			if said, mine = said || one, mine || his; !ok || depth > maxDepth {
				return said, mine, false
			}
			if more, ok := t.more(']'); !more {
				return said, mine, ok
			}
		}
	case '"':
		s, ok := t.string()
		if !ok {
			return false, false, false
		}
		text := s.raw
		if s.escaped {
			text = unquote(nil, s.raw)
		}
		return len(text) > 0, len(text) > 0 && w.judge.hashed(string(text)) == w.who, true
	default:
		from := t.pos
		if !t.pass(depth) {
			return false, false, false
		}
		text := string(t.data[from:t.pos])
		return text != nullSample, text != nullSample && w.judge.hashed(text) == w.who, true
	}
}

// theirRecord evaluates a record of somebody else of which all is the caller's own business.
func (w *walk) theirRecord(o *contract.Object, m *contract.Member, start int, c *candidate) bool {
	found := w.pool.add(candidate{kind: kind.ForeignRecord, severity: severity.ByClass(o.Owns.Gravest),
		class: o.Owns.Gravest, entity: o.Entity, grant: m.Grant,
		reason: "the record is somebody else's than the caller's; the gravest granted in it is " +
			o.Owns.Gravest.String()})
	slot := w.hold()
	before := w.excess
	w.strange++
	ok := w.object(o, m, loud)
	w.strange--
	w.excess = before + w.weight(start, w.off())
	w.fill(slot, graver(c, found), start)
	return ok
}

// theirMember evaluates a member that is granted of the caller's own records only, in the record of somebody else.
func (w *walk) theirMember(m *contract.Member, start int) bool {
	c := w.pool.add(candidate{kind: kind.ForeignRecord, grant: m.Grant, class: m.Class})
	if m.Object != nil || m.OneOf != nil || m.Selected != nil {
		c.class = gravest(m)
	}
	c.severity = severity.ByClass(c.class)
	switch g := m.Grant; {
	case g.Relation != nil:
		c.entity, c.field = g.Owner, g.Relation.Name
	case g.Field != nil:
		c.entity, c.field = g.Owner, g.Field.Name
	}
	before := w.excess
	w.strange++
	ok := w.granted(m, foreign, whole, start, c)
	w.strange--
	w.excess = before + w.weight(start, w.off())
	return ok
}

// Hold adds what is known of who holds which credentials.
func (k *Known) Hold(more map[uint64]uint64) {
	if len(more) > 0 && k.Holders == nil {
		k.Holders = map[uint64]uint64{}
	}
	for credentials, who := range more {
		holders(k.Holders).add(credentials, who)
	}
}

// knowHolders makes the judge use what is known of a run of who holds which credentials.
func (j *Judge) knowHolders(all map[uint64]uint64) {
	j.holders = holders{}
	maps.Copy(j.holders, all)
}

// DataName reports whether a name is data instead of a word: digits, a UUID, or what is masked.
func DataName(name string) bool { return dataName([]byte(name)) || strings.Contains(name, maskedPart) }
