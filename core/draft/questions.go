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

// about reports whether a question is about the fields of one entity, of which there may be more later.
func (q *Question) about() bool { return strings.HasPrefix(q.ID, "entity ") }

// widely is in how many entities a field must be for a question of its own, if it is internal and granted.
const widely = 3

// asking is a question being put together.
type asking struct {
	Question
	suggestion detect.Suggestion
	on         []*schema.Member
	standing   *schema.Member // above which it stands
}

// decide classifies every field, asks one question for all that are alike, and applies the answers there are.
func (w *writer) decide() {
	inside := map[string]int{} // by name and form: in how many entities a field is internal
	for _, e := range w.sketch.Objects {
		for _, f := range e.Members {
			if f.Object == nil && w.merely(e, f) {
				inside[alike(f)]++
			}
		}
	}
	asked := map[string]*asking{}
	var order []*asking
	put := func(id string, e *schema.Object, f *schema.Member, of asking) {
		q := asked[id]
		if q == nil {
			q = &of
			q.ID, q.Entity, q.Field, q.standing = id, e.Name, f.Name, f
			asked[id] = q
			order = append(order, q)
		}
		q.Concerns, q.on = append(q.Concerns, Field{e.Name, f.Name}), append(q.on, f)
		q.suggestion.Sure = min(q.suggestion.Sure, of.suggestion.Sure)
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
			switch {
			case f.WriteOnly || s.Class == catalog.Public:
			case d.granted && inside[alike(f)] >= widely:
				put("internal "+alike(f), e, f, asking{suggestion: s, Question: Question{weight: weighInternal}})
			case d.granted:
				put("entity "+e.Name, e, f, asking{suggestion: s, Question: Question{weight: weighInternal}})
			case s.Class == catalog.Unclassed:
				put("class of "+alike(f), e, f, asking{suggestion: s, Question: Question{weight: weighUnclassed}})
			default:
				weight := map[catalog.Class]int{catalog.Secret: weighSecret, catalog.Personal: weighPersonal,
					catalog.Internal: weighKept}[s.Class]
				put(fmt.Sprintf("%s %s", s.Class, alike(f)), e, f, asking{suggestion: s,
					Question: Question{weight: weight}})
			}
		}
	}
	for _, q := range order {
		w.settle(q)
	}
}

// settle applies the answer to a question about fields, or asks it.
func (w *writer) settle(q *asking) {
	first := w.decided[q.on[0]]
	if answer, ok := w.answers.find(q.ID); ok && slices.Contains(aboutFields, answer.Answer) {
		var left []int
		for i, f := range q.on {
			if len(answer.Fields) > 0 && !slices.Contains(answer.Fields, f.Name) {
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
			names = append(names, f.Field)
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
