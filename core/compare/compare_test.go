package compare

import (
	"fmt"
	"math/rand"
	"strings"
	"testing"

	"inkret/core/catalog"
	"inkret/core/contract"
)

const base = `inkret: 1
service: quay
audiences:
  - {name: visitor, recognise: {credentials: none}}
  - {name: skipper}
  - {name: office}
entities:
  Boat:
    fields:
      id: {type: integer, class: internal}
      name: {type: string, class: public, max: 40}
      hull: {type: string, class: internal}
      key_code: {type: string, class: secret}
    relations:
      owner: {entity: Person}
  Person:
    fields:
      id: {type: integer, class: internal}
      email: {type: string, class: personal}
      tier: {type: string}
    relations:
      boats: {entity: Boat, many: true}
shapes:
  card:
    entity: Person
    grants:
      id:
responses:
  - {statuses: [4XX], grants: {title: {type: string}}}
endpoints:
  - endpoint: GET /boats/{id}
    responses:
      - audiences: [visitor]
        entity: Boat
        grants: {name: , hull: {audiences: [office]}}
      - audiences: [skipper, office]
        statuses: [200]
        entity: Boat
        at: /data
        grants:
          id:
          name:
          owner: {shape: card}
  - endpoint: GET /people
    responses:
      - {audiences: [office], entity: Person, many: true, shape: card}
  - endpoint: POST /boats
    accepts:
      - {entity: Boat, grants: {name: }}
    responses: [{statuses: [201], grants: {}}]
`

func read(t testing.TB, text string) *contract.Contracts {
	t.Helper()
	c, err := contract.Read(contract.File{Name: "c.yaml", Data: []byte(text)})
	if err != nil {
		t.Fatalf("%v in\n%s", err, text)
	}
	return c
}

func TestWideningIsComputed(t *testing.T) {
	for name, c := range map[string]struct {
		old, new  string // of the base; a "|" separates several replacements
		direction Direction
		reaches   catalog.Class
		words     string // the first sentence
	}{
		"nothing": {"", "", Neutral, 0, ""},
		"a grant to one more audience": {"grants: {name: , hull", "grants: {name: , id: , hull", Widening,
			catalog.Internal,
			"lets visitor see Boat.id at GET /boats/{id}"},
		"a grant goes": {"          id:\n          name:", "          name:", Narrowing, 0,
			"no longer lets skipper and office see Boat.id at GET /boats/{id}"},
		"a shape widens at every endpoint that uses it": {"    grants:\n      id:\n",
			"    grants:\n      id:\n      email:\n", Widening, catalog.Personal,
			"lets skipper and office see Person.email at 2 endpoints"},
		"a renamed member": {"          name:\n", "          title: name\n", Widening, catalog.Public,
			"shows Boat.name as $.data.title instead of $.data.name at GET /boats/{id}"},
		"the same written otherwise": {"grants: {name: , hull: {audiences: [office]}}",
			"grants:\n          name: {field: name}\n          hull: {field: hull, audiences: [office]}", Neutral, 0,
			""},
		"a shape written out": {"owner: {shape: card}", "owner: {grants: {id: }}", Neutral, 0, ""},
		"an unclassed field counts as internal": {"    grants:\n      id:\n", "    grants:\n      id:\n      tier:\n",
			Widening, catalog.Internal,
			"lets skipper and office see Person.tier at 2 endpoints"},
		"classed lower and granted at once": {"class: personal}|    grants:\n      id:\n",
			"class: public}|    grants:\n      id:\n      email:\n", Widening, catalog.Personal,
			"classes Person.email as public instead of personal"},
		"classed higher": {"tier: {type: string}", "tier: {type: string, class: personal}",
			Narrowing, 0, "classes Person.tier as personal instead of unclassed"},
		"a longer text": {"max: 40", "max: 400", Widening, catalog.Public,
			"asks less of Boat.name at GET /boats/{id}: 400 instead of at most 40 characters"},
		"a shorter one": {"max: 40", "max: 4", Narrowing, 0,
			"asks more of Boat.name at GET /boats/{id}: at most 4 characters"},
		"open": {"grants: {name: , hull", "grants: {name: , more: {open: true}, hull",
			Widening, catalog.Personal,
			"no longer reports $.more as unexpected-relation where visitor gets it at GET /boats/{id}"},
		"a reference becomes an object": {"owner: {shape: card}", "owner: {reference: id}", Widening,
			catalog.Internal, "shows Person.id as $.data.owner instead of $.data.owner.id at GET /boats/{id}"},
		"may be absent": {"          name:\n", "          name: {optional: true}\n", Neutral, 0,
			"Boat.name may be absent at GET /boats/{id}"},
		"what clients may send": {"{name: }}", "{name: , hull: }}", Widening, 0,
			"lets visitor, skipper and office send Boat.hull at POST /boats"},
		"who is less trusted had it": {"audiences: [office], entity: Person",
			"audiences: [visitor, office], entity: Person", Widening, catalog.Internal,
			"lets visitor see Person.id at GET /people"},
		"an endpoint goes": {"  - endpoint: GET /people\n    responses:\n      - {audiences: " +
			"[office], entity: Person, many: true, shape: card}\n", "", Widening, catalog.Secret,
			"GET /people has no contract any more; its bodies are only swept"},
		"an endpoint comes": {"  - endpoint: GET /people",
			"  - endpoint: GET /crew\n    responses: [{entity: Person, grants: {email: }}]\n  - endpoint: GET /people",
			Widening, catalog.Personal, "lets visitor, skipper and office see Person.email at GET /crew"},
		"a secret": {"grants: {name: , hull", "grants: {name: , key_code: {reason: x}, hull",
			Widening, catalog.Secret, "lets visitor see Boat.key_code at GET /boats/{id}"},
		"at every endpoint": {"grants: {title: {type: string}}",
			"grants: {title: {type: string}, trace: {type: string}}", Widening, catalog.Public,
			"lets visitor, skipper and office see $.trace at every endpoint"},
		"an exception": {"endpoints:\n",
			"exceptions:\n  - {endpoint: GET /people, path: $.x, kind: secret-value, reason: y}\nendpoints:\n",
			Widening, catalog.Personal, "lets findings of secret-value at GET /people $.x pass"},
		"recognised otherwise": {"{credentials: none}", "{header: {name: X, value: y}}", Widening,
			catalog.Secret, "GET /boats/{id}, status 2XX, looks for Boat at the root instead of /data"},
		"another name of a parameter": {"/boats/{id}", "/boats/{boat_id}", Neutral, 0,
			"GET /boats/{boat_id} was written GET /boats/{id}"},
		"derived from something personal": {"    grants:\n      id:\n",
			"    grants:\n      id:\n      greeting: {derived: [email, tier], type: string}\n", Widening,
			catalog.Personal,
			"lets skipper and office see $.data.owner.greeting (derived from email, tier) at GET /boats/{id}"},
	} {
		t.Run(name, func(t *testing.T) {
			text := base
			olds, news := strings.Split(c.old, "|"), strings.Split(c.new, "|")
			for i := range olds {
				if olds[i] != "" && strings.Count(text, olds[i]) != 1 {
					t.Fatalf("the case is wrong: %q", olds[i])
				}
				text = strings.Replace(text, olds[i], news[i], 1)
			}
			d := Contracts(read(t, base), read(t, text))
			if d.Direction != c.direction || d.Reaches != c.reaches {
				t.Errorf("it is %s reaching %v, want %s reaching %v: %v", d.Direction, d.Reaches, c.direction,
					c.reaches, d.Words)
			}
			first := ""
			if len(d.Words) > 0 {
				first = d.Words[0].Text
			}
			if first != c.words {
				t.Errorf("it says %q, want %q", first, c.words)
			}
			if d.Sensitive() != (c.direction == Widening && c.reaches >= catalog.Personal) {
				t.Error("whether it needs approval is told wrong")
			}
			back := Contracts(read(t, text), read(t, base))
			if c.direction == Narrowing && back.Direction != Widening && !strings.Contains(name, "classed") ||
				c.direction == Neutral && len(d.Words) == 0 && len(back.Words) > 0 {
				t.Errorf("the way back is %s: %v", back.Direction, back.Words)
			}
		})
	}
}

// TestWhichShapeJudges changes what decides which shape judges an object: what the other shape lets out counts.
func TestWhichShapeJudges(t *testing.T) {
	with := func(grant string) *contract.Contracts {
		return read(t, `inkret: 1
service: quay
entities:
  Boat:
    fields: {id: {type: string, class: public}, mark: {type: string, class: internal}, phone: {type: string, class: personal}}
    relations: {next: {entity: Boat}}
shapes:
  card: {entity: Boat, grants: {id: , kind: {external: registry, type: string, optional: true}}}
  line: {entity: Boat, grants: {id: , mark: , kind: {external: registry, type: string, optional: true}}}
  full: {entity: Boat, grants: {id: , mark: , phone: , kind: {external: registry, type: string, optional: true}}}
endpoints: [{endpoint: GET /boats, responses: [{statuses: [200], entity: Boat, grants: {id: , next: `+grant+`}}]}]
`)
	}
	card, line, full := `{when: {kind: a}, shape: card}`, `{when: {kind: b}, shape: line}`,
		`{when: {kind: c}, shape: full}`
	one := func(all ...string) string { return "{optional: true, one_of: [" + strings.Join(all, ", ") + "]}" }
	for _, c := range []struct {
		name, was, is string
		direction     Direction
		reaches       catalog.Class
	}{
		{"the same", one(card, line), one(card, line), Neutral, catalog.Public},
		{"an order that changes nothing", one(card, line), one(line, card), Neutral, catalog.Public},
		{"told by another value", one(card, full), one(card, `{when: {kind: z}, shape: full}`), Widening,
			catalog.Personal},
		{"told by nothing any more", one(card, full), one(card, `{shape: full}`), Widening, catalog.Personal},
		{"shapes that change places", one(`{when: {kind: a}, shape: card}`, `{when: {kind: b}, shape: full}`),
			one(`{when: {kind: b}, shape: card}`, `{when: {kind: a}, shape: full}`), Widening, catalog.Personal},
		{"one that went, where another takes all", one(card, line, `{shape: full}`), one(card, `{shape: full}`),
			Widening, catalog.Personal},
		{"one that went, where nothing takes what is left", one(card, line, full), one(card, line), Narrowing,
			catalog.Public},
		{"a reference that becomes shapes", `{reference: id, reason: to link}`, one(card, full), Widening,
			catalog.Personal},
	} {
		d := Contracts(with(c.was), with(c.is))
		if d.Direction != c.direction || d.Direction == Widening && d.Reaches < c.reaches {
			t.Errorf("%s: it is %s reaching %v: %v", c.name, d.Direction, d.Reaches, d.Words)
		}
	}
}

func TestMoreTrustedAudiencesSeeWhatLessTrustedOnesDo(t *testing.T) {
	old := strings.Replace(base, "audiences: [office], entity: Person", "audiences: [skipper], entity: Person", 1)
	new := strings.Replace(base, "audiences: [office], entity: Person", "audiences: [skipper, office], entity: Person",
		1)
	if d := Contracts(read(t, old), read(t, new)); d.Direction != Neutral || len(d.Words) != 1 {
		t.Errorf("letting the office see what skippers see is %s: %v", d.Direction, d.Words)
	}
	if d := Contracts(read(t, old), read(t, base)); d.Direction != Narrowing {
		t.Errorf("letting the office see it instead of skippers is %s: %v", d.Direction, d.Words)
	}
}

func TestWhereNoAudienceIsNamedEverybodyIsOne(t *testing.T) {
	const text = "inkret: 1\nservice: quay\nentities: {Boat: {fields: {id: {class: internal}, name: {class: " +
		"public}}}}\nendpoints: [{endpoint: GET /a, responses: [{entity: Boat, grants: {id: }}], accepts: [{entity: " +
		"Boat, grants: {id: }}]}]\n"
	d := Contracts(read(t, text), read(t, strings.ReplaceAll(text, "grants: {id: }", "grants: {id: , name: }")))
	if d.Direction != Widening || len(d.Words) != 2 || d.Words[0].Text != "lets everybody see Boat.name at GET /a" ||
		d.Words[1].Text != "lets everybody send Boat.name at GET /a" {
		t.Errorf("it is %s: %v", d.Direction, d.Words)
	}
}

func TestTheFirstContractsAreAllNew(t *testing.T) {
	d := Contracts(nil, read(t, base))
	if d.Direction != Widening || len(d.Endpoints) != 4 {
		t.Errorf("the first contracts are %s at %v", d.Direction, d.Endpoints)
	}
}

func TestUnified(t *testing.T) {
	if Unified("a", "b", "x\n", "x\n") != "" {
		t.Error("equal texts differ")
	}
	const want = "--- a\n+++ b\n@@ -1,2 +1,2 @@\n x\n-y\n+z\n"
	if got := Unified("a", "b", "x\ny", "x\nz\n"); got != want {
		t.Errorf("got %q", got)
	}
}

func TestMerge(t *testing.T) {
	for name, c := range map[string]struct {
		base, mine, theirs, merged string
		conflicts                  int
	}{
		"both sides elsewhere": {"a\nb\nc\nd\n", "A\nb\nc\nd\n", "a\nb\nc\nD\n", "A\nb\nc\nD\n", 0},
		"only theirs":          {"a\nb\n", "a\nb\n", "a\nx\nb\n", "a\nx\nb\n", 0},
		"the same":             {"a\nb\n", "a\nx\n", "a\nx\n", "a\nx\n", 0},
		"the same line":        {"a\nb\nc\n", "a\nx\nc\n", "a\ny\nc\n", "a\nx\nc\n", 1},
		"both at the end":      {"a\n", "a\nx\n", "a\ny\n", "a\nx\n", 1},
		"mine takes away":      {"a\nb\nc\n", "a\nc\n", "a\nb\nc\nd\n", "a\nc\nd\n", 0},
		"all gone":             {"a\n", "", "a\n", "", 0},
		"from nothing":         {"", "a\n", "", "a\n", 0},
	} {
		got, conflicts := Merge(c.base, c.mine, c.theirs)
		if got != c.merged || len(conflicts) != c.conflicts {
			t.Errorf("%s: %q with %v, want %q", name, got, conflicts, c.merged)
		}
	}
	if _, c := Merge("a\nb\nc\n", "a\nx\nc\n", "a\ny\nc\n"); c[0] != (Conflict{2, "b\n", "x\n", "y\n"}) {
		t.Errorf("the conflict is %v", c)
	}
}

// TestMergeKeepsBothSides checks that a merge keeps what two people change on different lines.
func TestMergeKeepsBothSides(t *testing.T) {
	r := rand.New(rand.NewSource(3))
	for range 300 {
		var base, mine, theirs []string
		for i := range 30 {
			line := fmt.Sprintf("line %d\n", i)
			base = append(base, line)
			a, b := line, line
			switch pick := r.Intn(12); {
			case pick == 0 && i%4 == 0:
				a = fmt.Sprintf("mine %d\n", i)
			case pick == 1 && i%4 == 2:
				b = fmt.Sprintf("theirs %d\n", i)
			}
			mine, theirs = append(mine, a), append(theirs, b)
		}
		merged, conflicts := Merge(strings.Join(base, ""), strings.Join(mine, ""), strings.Join(theirs, ""))
		if len(conflicts) > 0 {
			t.Fatalf("conflicts %v", conflicts)
		}
		for i := range base {
			want := mine[i]
			if want == base[i] {
				want = theirs[i]
			}
			if !strings.Contains(merged, want) {
				t.Fatalf("%q is not in\n%s", want, merged)
			}
		}
	}
}
