package draft

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"inkret/core/catalog"
	"inkret/core/detect"
	"inkret/core/schema"
)

// Question is a decision that only a person can make. One question is about all fields that are alike.
type Question struct {
	ID         string   `json:"id"` // the same in every draft that asks the same
	Entity     string   `json:"entity,omitempty"`
	Field      string   `json:"field,omitempty"` // above which it stands
	Text       string   `json:"text"`
	Concerns   []Field  `json:"concerns,omitempty"`   // the fields that it decides
	Suggestion string   `json:"suggestion,omitempty"` // the answer that the draft goes by until there is one
	Certainty  string   `json:"certainty,omitempty"`  // sure, likely or guess
	Answers    []string `json:"answers,omitempty"`    // that can be given
	weight     int
}

// Field names a field of an entity.
type Field struct {
	Entity string `json:"entity"`
	Field  string `json:"field"`
}

func (f Field) String() string { return f.Entity + "." + f.Field }

// The answers to questions about fields: their class, and whether they are granted wherever they go out today.
const (
	PublicGranted   = "public, granted"
	InternalGranted = "internal, granted"
	InternalLeft    = "internal, left out"
	PersonalGranted = "personal, granted"
	PersonalLeft    = "personal, left out"
	SecretLeft      = "secret, left out"
	LeftOpen        = "left open"
	Yes             = "yes"
	No              = "no"
)

var (
	aboutFields = []string{PublicGranted, InternalGranted, InternalLeft, PersonalGranted, PersonalLeft, SecretLeft}
	yesOrNo     = []string{Yes, No}
)

// decision is what a draft does with a field of an entity.
type decision struct {
	class   catalog.Class
	granted bool
	above   string // the comment with its question
}

// decisionOf converts an answer about fields.
func decisionOf(answer string) decision {
	word, rest, _ := strings.Cut(answer, ", ")
	class, _ := catalog.ParseClass(word)
	return decision{class: class, granted: rest == "granted"}
}

// Reasons to ask, most important first.
const (
	weighSecret = 6 - iota
	weighPersonal
	weighKept
	weighWhose
	weighUnclassed
	weighInternal
)

// aboutEntity begins the IDs of questions about the fields of one entity, of which there may be more later.
const aboutEntity = "entity "

// aboutName begins those of questions about fields of one name and form that are granted though internal.
const aboutName = "granted "

// aboutField begins those of single fields, which count before those of questions about several.
const aboutField = "field "

// ToField returns an answer about one field of an entity, whatever else it is like.
func ToField(f Field, answer string) Answer {
	return Answer{Question: aboutField + f.String(), Answer: answer}
}

func (q *Question) about() bool { return strings.HasPrefix(q.ID, aboutEntity) }

// asking is a question being put together.
type asking struct {
	Question
	suggestion detect.Suggestion
	on         []*schema.Member
	standing   *schema.Member // above which it stands
}

// decide classifies every field, asks one question for all that are alike, and applies the answers there are.
func (w *writer) decide() {
	out := w.goingOut()
	whole := w.wholes()
	byName := w.fewest(out, whole)
	used := map[string]bool{} // questions about single fields, or that are asked otherwise now
	asked := map[string]*asking{}
	var order []*asking
	put := func(id string, weight int, e *schema.Object, f *schema.Member) {
		s := w.suggest(e, f)
		q := asked[id]
		if q == nil {
			q = &asking{suggestion: s, standing: f, Question: Question{ID: id, Entity: e.Name, Field: f.Name,
				weight: weight}}
			asked[id] = q
			order = append(order, q)
		}
		q.Concerns, q.on = append(q.Concerns, Field{e.Name, f.Name}), append(q.on, f)
		q.suggestion.Sure = min(q.suggestion.Sure, s.Sure)
	}
	for _, e := range w.sketch.Objects {
		for _, f := range e.Members {
			if f.Object != nil {
				continue
			}
			s := w.suggest(e, f)
			d := decision{class: s.Class, granted: s.Class == catalog.Public || w.merely(e, f)}
			if d.granted && d.class == catalog.Unclassed {
				d.class = catalog.Internal // until somebody says otherwise
			}
			w.decided[f] = d
			if answer, ok := w.before(e, f, whole[e]); ok {
				w.decided[f], used[answer.Question] = decisionOf(answer.Answer), true
				continue
			}
			switch {
			case !out[f] || s.Class == catalog.Public: // nobody sees it, or everybody may
			case d.granted && byName[alike(f)]:
				put(aboutName+alike(f), weighInternal, e, f)
			case d.granted:
				put(aboutEntity+whole[e].Name, weighInternal, e, f)
			case s.Class == catalog.Unclassed:
				put("class of "+alike(f), weighUnclassed, e, f)
			default:
				weight := map[catalog.Class]int{catalog.Secret: weighSecret, catalog.Personal: weighPersonal,
					catalog.Internal: weighKept}[s.Class]
				put(fmt.Sprintf("%s %s", s.Class, alike(f)), weight, e, f)
			}
		}
	}
	for id := range used {
		if !strings.HasPrefix(id, aboutField) {
			w.answered++
		}
	}
	for _, q := range order {
		w.settle(q)
	}
}

// before returns the answer there is about a field by itself, or where it is granted though internal, about it by name
// or with its entity: which of these is asked depends on what else there is, and may have been another when it was.
func (w *writer) before(e *schema.Object, f *schema.Member, whole *schema.Object) (Answer, bool) {
	self := Field{e.Name, f.Name}.String()
	fits := func(id string, bound bool) (Answer, bool) {
		a, ok := w.answers.find(id)
		return a, ok && slices.Contains(aboutFields, a.Answer) && (!bound || slices.Contains(a.Fields, self))
	}
	if a, ok := fits(aboutField+self, false); ok || !w.merely(e, f) {
		return a, ok
	}
	if a, ok := fits(aboutEntity+whole.Name, true); ok {
		return a, true
	}
	return fits(aboutName+alike(f), false)
}

// goingOut returns the fields that responses have.
func (w *writer) goingOut() map[*schema.Member]bool {
	out := map[*schema.Member]bool{}
	for _, o := range w.bodies {
		for _, m := range o.Flat() {
			if m.Object == nil && !m.WriteOnly {
				out[m.Of()] = true
			}
		}
	}
	for _, o := range w.graphed() {
		for _, m := range o.Members {
			if m.Object == nil && w.asksFor(o, m) {
				out[m] = true
			}
		}
	}
	if len(w.sketch.Operations) == 0 && len(w.sketch.Graphs) == 0 { // entities alone
		for _, e := range w.sketch.Objects {
			for _, f := range e.Members {
				out[f] = !f.WriteOnly
			}
		}
	}
	return out
}

// Classed is what a draft does with one field.
type Classed struct {
	Field
	Form    string // in words
	Class   catalog.Class
	Granted bool // wherever it goes out
	Out     bool // a response has it
	Single  bool // it was answered for by itself
}

// classed lists what the draft does with the fields of all entities.
func (w *writer) classed() (all []Classed) {
	out := w.goingOut()
	for _, e := range w.sketch.Objects {
		for _, f := range e.Members {
			if f.Object != nil {
				continue
			}
			c := Classed{Field: Field{e.Name, f.Name}, Form: formOf(f).Words(), Class: w.decided[f].class,
				Granted: w.decided[f].granted && out[f], Out: out[f]}
			_, c.Single = w.answers.find(aboutField + c.Field.String())
			all = append(all, c)
		}
	}
	return all
}

// wholes returns for each entity the one that it is asked about with: parts without a name that only one entity has
// are asked about with it.
func (w *writer) wholes() map[*schema.Object]*schema.Object {
	const several = -1
	number, holder := map[*schema.Object]int{}, map[*schema.Object]int{}
	for i, e := range w.sketch.Objects {
		number[e] = i
	}
	for i, e := range w.sketch.Objects {
		for _, m := range e.Members {
			if m.Object == nil || m.Object.Entity() == e {
				continue
			}
			if at, ok := holder[m.Object.Entity()]; ok && at != i {
				holder[m.Object.Entity()] = several
			} else {
				holder[m.Object.Entity()] = i
			}
		}
	}
	for _, op := range w.sketch.Operations {
		for _, a := range op.Answers {
			if a.Object != nil {
				holder[a.Object.Entity()] = several
			}
		}
	}
	whole := map[*schema.Object]*schema.Object{}
	for _, e := range w.sketch.Objects {
		in := e
		for range w.sketch.Objects { // circles of parts end somewhere
			at, ok := holder[in]
			if !ok || at == several || in.Named() {
				break
			}
			in = w.sketch.Objects[at]
		}
		whole[e] = in
	}
	return whole
}

// fewest chooses which of the fields that are granted though internal are asked about by name and form over all
// entities; the others are, entity by entity. It is the least number of questions that has each field in one: a
// minimum vertex cover of the bipartite graph of entities and names (Kőnig 1931), by augmenting paths.
func (w *writer) fewest(out map[*schema.Member]bool, whole map[*schema.Object]*schema.Object) (byName map[string]bool) {
	names, number := make([][]string, len(w.sketch.Objects)), map[*schema.Object]int{}
	for i, e := range w.sketch.Objects {
		number[e] = i
	}
	for _, e := range w.sketch.Objects {
		i := number[whole[e]]
		for _, f := range e.Members {
			if _, answered := w.before(e, f, whole[e]); f.Object == nil && out[f] && w.merely(e, f) && !answered {
				names[i] = append(names[i], alike(f))
			}
		}
	}
	entity := map[string]int{} // that a name is matched with
	var met map[string]bool
	var augment func(i int) bool
	augment = func(i int) bool {
		for _, n := range names[i] {
			if met[n] {
				continue
			}
			met[n] = true
			if other, ok := entity[n]; !ok || augment(other) {
				entity[n] = i
				return true
			}
		}
		return false
	}
	matched := make([]bool, len(names))
	for i := range names {
		met = map[string]bool{}
		matched[i] = augment(i)
	}
	byName = map[string]bool{} // those that alternating paths from unmatched entities reach
	var reach func(i int)
	reach = func(i int) {
		for _, n := range names[i] {
			if !byName[n] {
				byName[n] = true
				reach(entity[n])
			}
		}
	}
	for i := range names {
		if !matched[i] {
			reach(i)
		}
	}
	return byName
}

// settle applies the answer to a question about fields, or asks it.
func (w *writer) settle(q *asking) {
	first := w.decided[q.on[0]]
	if answer, ok := w.answers.find(q.ID); ok && slices.Contains(aboutFields, answer.Answer) {
		var left []int
		for i, f := range q.on {
			if len(answer.Fields) > 0 && !slices.Contains(answer.Fields, q.Concerns[i].String()) {
				left = append(left, i) // came later than the answer
				continue
			}
			w.decided[f] = decisionOf(answer.Answer)
		}
		w.answered++
		if len(left) == 0 {
			return
		}
		var concerns []Field
		var on []*schema.Member
		for _, i := range left {
			concerns, on = append(concerns, q.Concerns[i]), append(on, q.on[i])
		}
		q.Concerns, q.on, q.standing, q.Field = concerns, on, on[0], on[0].Name
	}
	q.Answers, q.Certainty = aboutFields, q.suggestion.Sure.String()
	switch {
	case first.class == catalog.Unclassed:
		q.Suggestion = LeftOpen
	case first.granted:
		q.Suggestion = first.class.String() + ", granted"
	default:
		q.Suggestion = first.class.String() + ", left out"
	}
	q.Text = q.words()
	d := w.decided[q.standing]
	d.above = w.ask(q.Question)
	w.decided[q.standing] = d
}

// words asks a question about fields.
func (q *asking) words() string {
	name := fmt.Sprintf("%s%s", q.Field, alsoIn(q.Concerns))
	switch {
	case q.Suggestion == LeftOpen:
		return fmt.Sprintf("which class has %s? %s; left out of every response until it has one", name,
			q.suggestion.Reason)
	case !strings.HasSuffix(q.Suggestion, "granted"):
		return fmt.Sprintf("who may see it? %s is %s (%s); left out of every response", name, q.suggestion.Class,
			q.suggestion.Reason)
	case q.about():
		var names []string
		for _, f := range q.Concerns {
			if f.Entity == q.Concerns[0].Entity {
				names = append(names, f.Field)
			} else {
				names = append(names, f.String())
			}
		}
		return fmt.Sprintf("do callers need %s? internal, and granted wherever it goes out today", some(names))
	}
	return fmt.Sprintf("do callers need %s? internal, and granted wherever it goes out today", name)
}

// alsoIn names the entities besides the first that a question is about.
func alsoIn(all []Field) string {
	var names []string
	for _, f := range all[1:] {
		if !slices.Contains(names, f.Entity) && f.Entity != all[0].Entity {
			names = append(names, f.Entity)
		}
	}
	if len(names) == 0 {
		return ""
	}
	return " (also in " + some(names) + ")"
}

// some lists names, up to a number.
func some(names []string) string {
	const most = 12
	if n := len(names) - most; n > 0 {
		return fmt.Sprintf("%s and %d more", strings.Join(names[:most], ", "), n)
	}
	return strings.Join(names, ", ")
}

// merely reports whether a field is granted though it is internal: it belongs to the works, or nothing tells what it
// is, and it is described or not about a person.
func (w *writer) merely(e *schema.Object, f *schema.Member) bool {
	s := w.suggest(e, f)
	return !f.WriteOnly && (s.Class == catalog.Internal && !detect.Kept(f.Name) ||
		s.Class == catalog.Unclassed && (e.Seen == 0 || !detect.Person(e.Name)))
}

// alike is equal for fields of the same name and form.
func alike(f *schema.Member) string {
	form := f.Form
	form.Nullable, form.Max = false, 0
	if f.Many {
		form.Type = catalog.Array
	}
	if len(form.Values) > 0 {
		form.Values = nil
	}
	return fmt.Sprintf("%s: %s", comment(strings.Join(detect.Words(nil, []byte(f.Name)), "_")), form.Words())
}

// ask adds a question and returns its comment.
func (w *writer) ask(q Question) string {
	w.questions = append(w.questions, q)
	return "? " + comment(q.Text)
}

// confirm asks whether something is so and reports whether it goes into the contract.
func (w *writer) confirm(q Question) (above string, goes bool) {
	if answer, ok := w.answers.find(q.ID); ok && slices.Contains(yesOrNo, answer.Answer) {
		w.answered++
		return "", answer.Answer == Yes
	}
	q.Answers, q.Suggestion, q.Certainty, q.weight = yesOrNo, Yes, detect.Likely.String(), weighWhose
	return w.ask(q), true
}

// sorted orders questions by importance: what would do most harm first, then what is decided for most fields.
func sorted(all []Question) []Question {
	slices.SortStableFunc(all, func(a, b Question) int {
		return cmp.Or(b.weight-a.weight, len(b.Concerns)-len(a.Concerns))
	})
	return all
}
