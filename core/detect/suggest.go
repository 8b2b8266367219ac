package detect

import (
	"fmt"
	"slices"
	"strings"

	"inkret/core/catalog"
)

// Sureness is how reliable a suggestion is.
type Sureness uint8

const (
	Guess Sureness = iota + 1
	Likely
	Sure
)

var surenessNames = [...]string{"", "guess", "likely", "sure"}

func (s Sureness) String() string { return surenessNames[s] }

// Suggestion is a class proposed for a field, with its reason.
type Suggestion struct {
	Class  catalog.Class
	Reason string
	Sure   Sureness
}

// Evidence is what is known about a field besides its name: its comment, its form, and what its values were
// recognised as.
type Evidence struct {
	Note     string
	Form     catalog.Form
	Detector string        // the detector that recognised observed values
	Class    catalog.Class // that it gives them
}

// inner lists words for internal fields, open those for fields that are usually shown.
var (
	inner = words("internal note notes remark remarks flag flags admin created updated modified deleted changed " +
		"inserted by id ids uuid guid key " +
		"version revision score rating risk cost margin purchase wholesale supplier debug trace raw meta staff desk " +
		"audit approved reviewed blocked locked " +
		"attempts login source origin campaign hash checksum sort position rank legacy external sync synced " +
		"archived comment comments insurance hull serial " +
		"last failed retry row seq sequence tenant owner author editor creator")
	open = words("name title label code reference number kind type status state category description summary text " +
		"body caption headline price currency amount total " +
		"quantity count unit size length width height depth weight colour color url link links image picture photo " +
		"icon logo slug country city language locale " +
		"arrives leaves starts ends from until opens closes date time day month year open available capacity rooms " +
		"services tags topic level floor area " +
		"reason message detail details")
)

// kept lists words for what is meant for those who run a service, beside what merely belongs to its works.
var kept = words("internal private note notes remark remarks flag flags admin score rating risk cost margin purchase " +
	"wholesale supplier debug trace raw meta staff desk audit reviewed blocked locked attempts failed campaign token " +
	"hash checksum comment comments insurance moderation moderator fraud secret hidden")

// Kept reports whether a field's name tells of what is meant for those who run a service alone.
func Kept(field string) bool {
	for _, w := range Words(nil, []byte(field)) {
		if kept[w] {
			return true
		}
	}
	return false
}

func words(list string) map[string]bool {
	m := map[string]bool{}
	for _, w := range strings.Fields(list) {
		m[w] = true
	}
	return m
}

// Suggest proposes a class for a field and says why. If nothing indicates a class, it is [catalog.Unclassed]: a
// person has to decide.
func Suggest(entity, field string, e Evidence) Suggestion {
	if e.Class >= catalog.Personal && e.Detector != "" {
		return Suggestion{e.Class, "its values are recognised as " + e.Detector, Sure}
	}
	closed := e.Form.Type == catalog.Boolean || len(e.Form.Values) > 0 // one of a few values tells little of anybody
	if c := Name([]byte(field)); c != catalog.Unclassed && e.Form.Type != catalog.Boolean {
		return Suggestion{c, fmt.Sprintf("its name tells of something %s", c), Sure}
	}
	switch e.Form.Format {
	case "email", "phone", "iban", "ipv4", "ipv6":
		return Suggestion{catalog.Personal, "its format is " + e.Form.Format, Sure}
	case "password":
		return Suggestion{catalog.Secret, "its format is password", Sure}
	}
	if c, word := telledBy(e.Note); c != catalog.Unclassed && !closed {
		return Suggestion{c, fmt.Sprintf("its comment speaks of %q", word), Likely}
	}
	of := Words(nil, []byte(field))
	if field == "type" || field == "@type" || strings.HasPrefix(field, "@odata.") {
		return Suggestion{catalog.Public, "it says what sort of thing this is, or annotates it", Likely}
	}
	about := Person(entity)
	for _, w := range of {
		if w == "name" && about {
			return Suggestion{catalog.Personal, fmt.Sprintf("it names a person: %s", entity), Likely}
		}
		if w == "born" || w == "birth" || w == "died" {
			return Suggestion{catalog.Personal, "it tells of a person's birth", Sure}
		}
	}
	for _, w := range of {
		if inner[w] {
			return Suggestion{catalog.Internal, fmt.Sprintf("%q is kept in the house, as a rule", w), Likely}
		}
	}
	if about {
		return Suggestion{catalog.Unclassed, fmt.Sprintf("nothing tells, and %s is a person", entity), Guess}
	}
	for _, w := range of {
		if open[w] {
			return Suggestion{catalog.Public, fmt.Sprintf("%q is shown, as a rule", w), Guess}
		}
	}
	switch {
	case e.Form.Format == "date" || e.Form.Format == "time" || e.Form.Type == catalog.Boolean || len(e.Form.Values) > 0:
		return Suggestion{catalog.Internal, "a " + e.Form.Words() + " that nothing tells to be personal", Guess}
	}
	return Suggestion{catalog.Unclassed, "nothing tells", Guess}
}

// Person reports whether an entity's name tells of a person.
func Person(entity string) bool {
	return slices.ContainsFunc(Words(nil, []byte(entity)), func(w string) bool { return people[w] })
}

// people lists words for entities that are people.
var people = words("user users person people customer client member guest visitor skipper owner employee staff " +
	"patient student tenant contact subscriber " +
	"traveller passenger driver sailor captain applicant candidate citizen resident account profile author")

// telledBy looks for telling words in a comment. They tell where a phrase ends with them, or goes on with a word that
// says more of them: in "phone of the owner" a phone is spoken of, in "access token permissions" permissions are, and
// in "pass one or more topics" or "address the sender" nothing is but what to do.
func telledBy(note string) (catalog.Class, string) {
	found, word := catalog.Unclassed, ""
	for phrase := range strings.FieldsFuncSeq(strings.ToLower(note), func(r rune) bool {
		return strings.ContainsRune(".,;:!?()[]{}\"<>|\n\r\t/", r)
	}) {
		all := strings.FieldsFunc(phrase, func(r rune) bool { return !(r >= 'a' && r <= 'z') && r < 0x80 })
		for i := range all {
			if reversing[all[i]] {
				return catalog.Unclassed, ""
			}
			joined := ""
			for k := i; k < len(all) && k < i+3; k++ {
				joined += all[k]
				ends := k+1 == len(all) || saysMore[all[k+1]]
				if c := telling[joined].Class; c > found && ends && !(i > 0 && toDo[all[i-1]]) {
					found, word = c, strings.Join(all[i:k+1], " ")
				}
			}
		}
	}
	return found, word
}

// saysMore lists words that say more of the noun before them, toDo those behind which a word is a verb.
var (
	saysMore = words("of for in on at to by from with without as is are was were be been has have had and or but " +
		"nor that " +
		"which who whose when where while if used using stored kept sent given shown set only per after before under " +
		"behind via not may can could must will would should it they he she so than then into about during until")
	toDo = words("to please you we can could may might must will would should shall cannot not")
)
