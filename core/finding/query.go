package finding

import (
	"fmt"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"time"

	"inkret/core/kind"
	"inkret/core/severity"
)

// Query selects and sorts the findings of a list. Its text form is a URL query, as in state=new&severity=critical,
// used in the console's address, in views, in the API and on the command line. A new filter needs a field here, a
// line in [Filters], and a condition in the store.
type Query struct {
	States     []string // those of [States], or open, any; none is open
	Severities []string
	Kinds      []string
	Audience   string
	Endpoint   string // its id
	Team       string
	Entity     string
	Field      string
	Assigned   string // me, nobody, left, an e-mail address, or team: and a name
	Label      string
	Service    string
	Due        string // over, or a day before which it is due
	Waiver     string // asked
	Proof      string // doubted
	Shape      string // of a contract
	Value      string // the print of a value that leaked
	Words      string
	Batch      int64
	Sort       string
}

// Filter is one filter of a list of findings.
type Filter struct {
	Name  string // in a query
	Words string // what it takes, for people
	read  func(*Query, string) error
	write func(*Query) string
}

// Filters lists all filters.
func Filters() []Filter { return slices.Clone(filters) }

var filters = []Filter{
	{"state", "in these `STATES`: open (all that want work, as when none is said), any, or " +
		strings.Join(stateNames(), ", "), known("state", func(q *Query) *[]string { return &q.States },
		append([]string{"open", "any"}, stateNames()...)),
		func(q *Query) string { return strings.Join(q.States, ",") }},
	{"severity", "of these `SEVERITIES`, separated by commas",
		known("severity", func(q *Query) *[]string { return &q.Severities }, severity.Names()),
		func(q *Query) string { return strings.Join(q.Severities, ",") }},
	{"kind", "of these `KINDS`, separated by commas", known("kind", func(q *Query) *[]string { return &q.Kinds },
		kindNames()), func(q *Query) string { return strings.Join(q.Kinds, ",") }},
	text("audience", "only of the audience `NAME`", func(q *Query) *string { return &q.Audience }),
	text("endpoint", "only of the endpoint `ID`", func(q *Query) *string { return &q.Endpoint }),
	text("team", "only of endpoints of the team `NAME`", func(q *Query) *string { return &q.Team }),
	text("entity", "only of fields of the entity `NAME`", func(q *Query) *string { return &q.Entity }),
	text("field", "only of the field `NAME`", func(q *Query) *string { return &q.Field }),
	text("assigned", "assigned to: an `EMAIL`, me, nobody, left for people who are kept out, or team:NAME",
		func(q *Query) *string { return &q.Assigned }),
	text("label", "only with the `LABEL`", func(q *Query) *string { return &q.Label }),
	text("service", "only of the service `NAME`", func(q *Query) *string { return &q.Service }),
	{"due", "over for what is overdue, or due before a `DAY`", day, func(q *Query) string { return q.Due }},
	{"waiver", "asked, for those whose waiver waits for approval", waiver, func(q *Query) string { return q.Waiver }},
	{"proof", "doubted, for closed ones whose proof no longer counts", doubted,
		func(q *Query) string { return q.Proof }},
	text("shape", "only those that the `SHAPE` of a contract decided", func(q *Query) *string { return &q.Shape }),
	text("value", "only where a value leaked that has this `PRINT`", func(q *Query) *string { return &q.Value }),
	{"batch", "only those seen in the batch of this `NUMBER`", batch, func(q *Query) string {
		if q.Batch == 0 {
			return ""
		}
		return strconv.FormatInt(q.Batch, 10)
	}},
	text("q", "with these `WORDS` in endpoint, path, entity or field", func(q *Query) *string { return &q.Words }),
	{"sort", "in this `ORDER`: " + strings.Join(Orders, ", ") + "; - before it turns it round", sorted,
		func(q *Query) string { return q.Sort }},
}

// Orders lists the sort keys.
var Orders = []string{"severity", "kind", "endpoint", "path", "state", "spots", "bytes", "due", "first_seen",
	"last_seen"}

// notFilters are other parameters in the same query.
var notFilters = []string{"page", "size"}

// QueryError describes an invalid query.
type QueryError struct{ Reason string }

func (e *QueryError) Error() string { return e.Reason }

func wrong(format string, args ...any) error { return &QueryError{fmt.Sprintf(format, args...)} }

// ParseQuery parses a query. Its errors are of type [QueryError].
func ParseQuery(values url.Values) (Query, error) {
	var q Query
	for name := range values {
		if !slices.Contains(notFilters, name) &&
			!slices.ContainsFunc(filters, func(f Filter) bool { return f.Name == name }) {
			return q, wrong("a list of findings has no filter %s", name)
		}
	}
	for _, f := range filters {
		if said := values.Get(f.Name); said != "" {
			if err := f.read(&q, said); err != nil {
				return q, err
			}
		}
	}
	return q, nil
}

// Values returns the query's parameters, without empty filters.
func (q Query) Values() url.Values {
	values := url.Values{}
	for _, f := range filters {
		if said := f.write(&q); said != "" {
			values.Set(f.Name, said)
		}
	}
	return values
}

// Encode returns the query's text form, sorted by name.
func (q Query) Encode() string { return q.Values().Encode() }

// InStates returns the states that the query selects, with `open` expanded; empty means any.
func (q Query) InStates() []string {
	switch {
	case len(q.States) == 0 && q.Proof != "":
		return []string{string(Closed)}
	case len(q.States) == 0:
		return OpenStates()
	}
	var all []string
	for _, name := range q.States {
		switch name {
		case "any":
			return nil
		case "open":
			all = append(all, OpenStates()...)
		default:
			all = append(all, name)
		}
	}
	return all
}

// OpenStates lists the names of the states that need work.
func OpenStates() (open []string) {
	for _, s := range States() {
		if s.Open() {
			open = append(open, string(s))
		}
	}
	return open
}

func stateNames() (all []string) {
	for _, s := range States() {
		all = append(all, string(s))
	}
	return all
}

func kindNames() (all []string) {
	for _, k := range kind.All() {
		all = append(all, k.String())
	}
	return all
}

func text(name, words string, of func(*Query) *string) Filter {
	return Filter{name, words, func(q *Query, said string) error { *of(q) = said; return nil },
		func(q *Query) string { return *of(q) }}
}

// known parses one of some names, or several separated by commas.
func known(what string, of func(*Query) *[]string, names []string) func(*Query, string) error {
	return func(q *Query, said string) error {
		for _, name := range strings.FieldsFunc(said, func(r rune) bool { return r == ',' || r == ' ' }) {
			if !slices.Contains(names, name) {
				return wrong("there is no %s %s", what, name)
			}
			*of(q) = append(*of(q), name)
		}
		return nil
	}
}

func day(q *Query, said string) error {
	if _, err := time.Parse(time.DateOnly, said); err != nil && said != "over" {
		return wrong("due is `over`, or a day such as 2027-03-31")
	}
	q.Due = said
	return nil
}

func sorted(q *Query, said string) error {
	if !slices.Contains(Orders, strings.TrimPrefix(said, "-")) {
		return wrong("findings have no order by %s", said)
	}
	q.Sort = said
	return nil
}

func doubted(q *Query, said string) error {
	if said != "doubted" {
		return wrong("a proof can be `doubted`")
	}
	q.Proof = said
	return nil
}

func waiver(q *Query, said string) error {
	if said != "asked" {
		return wrong("a waiver can be `asked` for")
	}
	q.Waiver = said
	return nil
}

func batch(q *Query, said string) (err error) {
	if q.Batch, err = strconv.ParseInt(said, 10, 64); err != nil {
		return wrong("a batch is named by its number")
	}
	return nil
}
