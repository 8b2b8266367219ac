// Package kind defines the kinds of findings, each with its CWE number. To add a kind, add it here; tests say what
// else is missing.
package kind

// Kind is what is wrong at a spot. Kinds are ordered as in docs/judging.md: of two with equal severity, the smaller
// Kind is reported.
type Kind uint8

const (
	SecretValue Kind = iota + 1
	SensitiveField
	PersonalValue
	ForeignRecord
	WrongAudience
	UnexpectedRelation
	UnexpectedField
	RenamedField
	HiddenDuplicate
	RevealingError
	SensitiveInURL
	OverPosting
	CacheablePrivate
	MissingField
	ValueMismatch
	SelectionIgnored
	UndeclaredResponse
	UnknownEndpoint
	UnevenExposure
	HeavyExcess
	End // one more than the last
)

// trait is a property that kinds share.
type trait uint8

const (
	exposure  trait = 1 << iota // what is there is exposed
	sensitive                   // of a value or name that is sensitive by itself
	member                      // of one member of a body, and what it stands for
	whole                       // of the exchange as a whole
	grave                       // what passes by an exception of it is personal at least
)

// of holds the properties of each kind.
var of = [End]struct {
	name string
	cwe  int // a weakness of the Common Weakness Enumeration
	is   trait
	mend string // how such a leak is usually mended
}{
	SecretValue: {"secret-value", 200, sensitive | exposure | member | grave,
		"Take the value out before the row is mapped: select the columns that are needed instead of the whole " +
			"row, and build a response object that has no place for it. Treat the value as known to others and " +
			"change it."},
	SensitiveField: {"sensitive-field", 213, sensitive | exposure | member | grave,
		"Return a purpose-made object that lists what goes out, instead of the stored entity less some " +
			"fields. If a client needs the field, grant it in the contract with a reason."},
	PersonalValue: {"personal-value", 359, sensitive | exposure | member | grave,
		"Find where the value gets in: often free text, or a name field that takes an address. Leave it out, " +
			"or grant the field with the class it really has."},
	ForeignRecord: {"foreign-record", 639, exposure | member | grave,
		"Ask the store for the caller's records, by who the session or token says it is, instead of asking for a " +
			"record " +
			"by its id and sending whatever comes; for a list, put the owner into its condition."},
	WrongAudience: {"wrong-audience", 863, member | grave,
		"Choose the response object by the caller's audience on the server; do not send all and hide some in " +
			"the client. Check shared caches on the way too."},
	UnexpectedRelation: {"unexpected-relation", 213, exposure | member | grave,
		"Do not let the mapper follow relations by itself. Cut the relation to a reference, or to the few " +
			"fields that the page shows."},
	UnexpectedField: {"unexpected-field", 213, exposure | member,
		"List what goes out instead of removing what must not. If it is meant to be there, add it to the " +
			"contract."},
	RenamedField: {"renamed-field", 684, member,
		"Send the name that is promised, or change the contract and tell the clients that read the old one; " +
			"both at once for a while if they cannot move together."},
	HiddenDuplicate: {"hidden-duplicate", 436, 0,
		"Find the two places that write the member and keep one; a filter that sees the first may pass on the " +
			"second."},
	RevealingError: {"revealing-error", 209, 0,
		"Log what happened, with an id, on the server; answer with a text of your own and that id."},
	SensitiveInURL: {"sensitive-in-url", 598, grave,
		"Send it in the body or a header: addresses are kept in logs, histories and caches on the way. Change " +
			"a secret that was sent so."},
	OverPosting: {"over-posting", 915, grave,
		"Read the request into a purpose-made object that has no place for more, instead of into the entity; " +
			"refuse or ignore the rest."},
	CacheablePrivate: {"cacheable-private", 524, whole,
		"Send Cache-Control: private or no-store with what depends on the caller, and Vary where it is shared " +
			"on purpose."},
	MissingField: {"missing-field", 684, 0,
		"Send the member, with null where there is no value if the contract says nullable, or mark the grant " +
			"as optional."},
	ValueMismatch: {"value-mismatch", 684, 0,
		"Make the value fit the contract, or correct the contract if clients already rely on what is sent."},
	SelectionIgnored: {"selection-ignored", 213, whole,
		"Read the selection before the object is mapped, and map what was asked for; a client on a slow line " +
			"counts on it."},
	UndeclaredResponse: {"undeclared-response", 1059, whole,
		"Add a response for this status, or a shared one at the top of the contract for errors."},
	UnknownEndpoint: {"unknown-endpoint", 1059, whole,
		"Write a contract for the endpoint, or take the endpoint away if nobody needs it."},
	UnevenExposure: {"uneven-exposure", 213, 0,
		"Choose one name and form and let both endpoints share a shape."},
	HeavyExcess: {"heavy-excess", 213, whole,
		"Most of these bytes are for nobody: cut the relations that hold them, see the wire view for which."},
}

func (k Kind) String() string { return of[k].name }

// CWE returns the number of the corresponding weakness.
func (k Kind) CWE() int { return of[k].cwe }

// All lists all kinds in order.
func All() []Kind {
	all := make([]Kind, 0, End-1)
	for k := Kind(1); k < End; k++ {
		all = append(all, k)
	}
	return all
}

// Names lists the names of all kinds in order.
func Names() []string {
	var names []string
	for _, k := range All() {
		names = append(names, k.String())
	}
	return names
}

// Parse returns the kind with a name.
func Parse(name string) (Kind, bool) {
	for _, k := range All() {
		if k.String() == name {
			return k, true
		}
	}
	return 0, false
}

// Mend says how a leak of this kind is usually fixed.
func (k Kind) Mend() string { return of[k].mend }

// Exposure reports whether k is one of the six kinds of exposure. Only the most severe of them is reported at one
// path, and a proof requires that all are gone.
func (k Kind) Exposure() bool { return of[k].is&exposure != 0 }

// Sensitive reports whether k is about values or names that are sensitive by themselves.
func (k Kind) Sensitive() bool { return of[k].is&sensitive != 0 }

// Member reports whether k is about one member that should not be in a body.
func (k Kind) Member() bool { return of[k].is&member != 0 }

// Whole reports whether k is about an exchange as a whole. Such findings are at `$`, beside whatever else is found
// there.
func (k Kind) Whole() bool { return of[k].is&whole != 0 }

// Grave reports whether an exception for k counts as exposing at least personal data.
func (k Kind) Grave() bool { return of[k].is&grave != 0 }

// Members lists the names of the kinds that are about one member.
func Members() []string {
	var names []string
	for _, k := range All() {
		if k.Member() {
			names = append(names, k.String())
		}
	}
	return names
}
