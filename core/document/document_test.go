package document

import (
	"errors"
	"fmt"
	"math/rand"
	"os"
	"path/filepath"
	"strings"
	"testing"
)

const sample = `# The harbour.
inkret: 1
servers: ["https://a.example", 'b # no comment']   # where

entities:
  Booking:            # one stay
    fields:
      id:   {type: integer, class: internal}   # the key
      # what staff say
      note: {type: string, nullable: true}
      sum:
        type: number
    relations: {berth: {entity: Berth}}

endpoints:
  - endpoint: GET /v1/bookings
    # what visitors get
    responses:
    - statuses: [200]
      grants:
        id:     # asked for
        ref: reference
        nothing:
    - {statuses: [404], grants: {}}
  - endpoint: "POST /v1/bookings"
    accepts: [ ]
`

func value(t *testing.T, text string) *Value {
	t.Helper()
	v, err := FromJSON([]byte(text))
	if err != nil {
		t.Fatal(err)
	}
	return v
}

// ops parses operations written as "add /path value"; a move is "move /from new-name".
func ops(t *testing.T, lines ...string) []Op {
	var all []Op
	for _, line := range lines {
		parts := strings.SplitN(line, " ", 3)
		if strings.Contains(line, "na: me") { // a key with a blank
			parts = strings.SplitN(line, " ", 4)
			parts = []string{parts[0], parts[1] + " " + parts[2], parts[3]}
		}
		o := Op{Op: parts[0], Path: parts[1]}
		if o.Op == "move" {
			o.From, o.Path = o.Path, o.Path[:strings.LastIndexByte(o.Path, '/')+1]+parts[2]
		} else if len(parts) == 3 {
			o.Value = value(t, parts[2])
		}
		all = append(all, o)
	}
	return all
}

func TestEditsTouchNothingElse(t *testing.T) {
	for name, c := range map[string]struct {
		ops      []string
		old, new string // of the sample; all the rest stays
	}{
		"a class is set in braces": {[]string{`add /entities/Booking/fields/note/class "personal"`},
			"note: {type: string, nullable: true}", "note: {type: string, nullable: true, class: personal}"},
		"a class is changed, its comment stays": {[]string{`replace /entities/Booking/fields/id/class "secret"`},
			"class: internal}   # the key", "class: secret}   # the key"},
		"a value in lines": {[]string{`replace /entities/Booking/fields/sum/type "integer"`}, "type: number",
			"type: integer"},
		"a field is added in lines": {[]string{`add /entities/Booking/fields/tier {"type":"string"}`},
			"        type: number\n", "        type: number\n      tier: {type: string}\n"},
		"a grant is added": {[]string{`add /endpoints/0/responses/0/grants/nights null`},
			"        nothing:\n", "        nothing:\n        nights:\n"},
		"a grant that was nothing": {[]string{`replace /endpoints/0/responses/0/grants/id {"optional":true}`},
			"id:     # asked for", "id: {optional: true}     # asked for"},
		"a grant goes": {[]string{`remove /endpoints/0/responses/0/grants/ref`},
			"        ref: reference\n", ""},
		"a grant is renamed": {[]string{`move /endpoints/0/responses/0/grants/ref code`}, "ref: reference",
			"code: reference"},
		"the last one of braces goes": {[]string{`remove /entities/Booking/relations/berth`},
			"relations: {berth: {entity: Berth}}", "relations: {}"},
		"the first one of braces goes": {[]string{`remove /entities/Booking/fields/note/type`},
			"{type: string, nullable: true}", "{nullable: true}"},
		"a list gets an item": {[]string{`add /endpoints/0/responses/0/statuses/- 201`}, "statuses: [200]",
			"statuses: [200, 201]"},
		"an empty list gets its first": {[]string{`add /endpoints/1/accepts/- {"grants":{}}`}, "accepts: [ ]",
			"accepts: [{grants: {}}]"},
		"a quoted text with a hash": {[]string{`replace /servers/1 "https://c.example"`}, "'b # no comment'",
			`"https://c.example"`},
		"a list item in lines": {[]string{`add /endpoints/0/responses/- {"statuses":["default"]}`},
			"    - {statuses: [404], grants: {}}\n",
			"    - {statuses: [404], grants: {}}\n    - {statuses: [default]}\n"},
		"an item goes": {[]string{`remove /endpoints/0/responses/1`},
			"    - {statuses: [404], grants: {}}\n", ""},
		"the first key of an item goes": {[]string{`remove /endpoints/0/endpoint`},
			"  - endpoint: GET /v1/bookings\n    # what visitors get\n    responses:", "  - responses:"},
		"what holds is tested first": {[]string{`test /inkret 1`, `replace /inkret 2`}, "inkret: 1", "inkret: 2"},
		"several at once": {[]string{`add /entities/Booking/fields/a {"class":"public"}`,
			`add /entities/Booking/fields/b {"class":"public"}`, `remove /entities/Booking/fields/a`},
			"        type: number\n", "        type: number\n      b: {class: public}\n"},
		"a long line is broken up": {[]string{`add /entities/Booking/relations/payments_of_guests {"entity":"PaymentOfAGuest","many":true,"x-note":"a long remark about it"}`},
			"    relations: {berth: {entity: Berth}}\n",
			"    relations:\n      berth: {entity: Berth}\n      payments_of_guests: {entity: PaymentOfAGuest, " +
				"many: true, x-note: a long remark about it}\n"},
		"a name that needs quotes": {[]string{`add /endpoints/0/responses/0/grants/na: me~1x "true"`},
			"        nothing:\n", "        nothing:\n        \"na: me/x\": \"true\"\n"},
	} {
		t.Run(name, func(t *testing.T) {
			got, err := Apply(sample, ops(t, c.ops...))
			if err != nil {
				t.Fatal(err)
			}
			if strings.Count(sample, c.old) != 1 {
				t.Fatalf("the case is wrong: %q", c.old)
			}
			if want := strings.Replace(sample, c.old, c.new, 1); got != want {
				t.Errorf("got\n%s\nwant\n%s", got, want)
			}
		})
	}
}

func TestWhatCannotBeEditedIsLeftAlone(t *testing.T) {
	aliased := "a: &x {b: 1}\nc: *x\n"
	for name, c := range map[string]struct{ text, op string }{
		"a parent that is not there": {sample, `add /entities/Berth/fields/id null`},
		"nothing there":              {sample, `remove /servers/7`},
		"something else by now":      {sample, `test /inkret 2`},
		"below an alias":             {aliased, `replace /c/b 2`},
		"a name that is taken":       {sample, `move /endpoints/0/responses/0/grants/ref id`},
		"an operation of no kind":    {sample, `copy /inkret 1`},
		"a text that is broken":      {"a: [", `add /b 1`},
		"below a text":               {sample, `add /inkret/x 1`},
		"no pointer":                 {sample, `add inkret 1`},
	} {
		if got, err := Apply(c.text, ops(t, c.op)); err == nil {
			t.Errorf("%s: it was carried out: %s", name, got)
		}
	}
	if _, err := Apply(aliased, ops(t, `replace /c/b 2`)); !errors.Is(err, errText) {
		t.Errorf("below an alias: %v", err)
	}
}

// TestRandomEdits applies random operations. Apply itself compares each result with what the operation means for
// the values, and fails where it differs. All comments must survive except those on removed lines.
func TestRandomEdits(t *testing.T) {
	texts := []string{sample}
	files, _ := filepath.Glob("../../demo/contracts/*.yaml")
	for _, f := range files {
		data, err := os.ReadFile(f)
		if err != nil {
			t.Fatal(err)
		}
		texts = append(texts, string(data))
	}
	if len(texts) < 3 {
		t.Fatal("the demo's contracts are not there")
	}
	r := rand.New(rand.NewSource(7))
	values := []string{`null`, `"word"`, `12`, `true`, `{"type":"string"}`, `{"a":{"b":[1,2]},"c":null}`, `[]`, `{}`,
		`"a: b # c"`, `["x","y z"]`}
	const rounds = 200
	for round := 0; round < rounds; round++ {
		text := texts[round%len(texts)]
		for step := 0; step < 4; step++ {
			p, err := newPatch("", text)
			if err != nil {
				t.Fatal(err)
			}
			var all []*Node
			collect(p.root, &all)
			n := all[r.Intn(len(all))]
			o := Op{Op: "replace", Path: n.Pointer(), Value: value(t, values[r.Intn(len(values))])}
			switch pick := r.Intn(4); {
			case pick == 0:
				o.Op = "remove"
			case pick == 1 && n.Kind == Map:
				o.Op, o.Path = "add", fmt.Sprintf("%s/new%d", n.Pointer(), round)
			case pick == 2 && n.Kind == List:
				o.Op, o.Path = "add", fmt.Sprintf("%s/%d", n.Pointer(), r.Intn(len(n.Items)+1))
			case pick == 3 && n.Name != nil:
				o.Op, o.From, o.Path = "move", n.Pointer(), n.Parent.Pointer()+"/renamed"
				if n.Parent.Get("renamed") != nil {
					continue
				}
			}
			if o.Op != "add" && n.Parent == nil {
				continue
			}
			edited, err := Apply(text, []Op{o})
			if err != nil {
				t.Fatalf("%s %s %v: %v in\n%s", o.Op, o.Path, o.Value, err, text)
			}
			if o.Op == "add" && strings.Count(edited, "#") < strings.Count(text, "#") {
				t.Fatalf("%s %s lost a comment of\n%s\ngiving\n%s", o.Op, o.Path, text, edited)
			}
			text = edited
		}
	}
}

func collect(n *Node, all *[]*Node) {
	*all = append(*all, n)
	for _, p := range n.Pairs {
		collect(p, all)
	}
	for _, i := range n.Items {
		collect(i, all)
	}
}

func TestWhatIsWrittenIsReadBack(t *testing.T) {
	for _, text := range []string{`{"a":null}`, `{"yes":"no","1":"1","":"","true":true}`,
		`{"a":["x",{"b":[[],[1]]}],"ü":"Ω: #"}`,
		`{"long":"` + strings.Repeat("word ", 60) + `"}`, `[{"a":1,"b":{"c":"d"}},[["x"]],null,-0.5e3]`,
		`{"a":" padded ","b":"line\nbreak","c":"- dash","d":"*star","e":"a'b\"c"}`} {
		v := value(t, text)
		written := string(v.Append(nil, 0))
		n := Parse("", []byte(written), func(at *Node, _, found string) {
			t.Errorf("%s: line %d: %s\n%s", text, at.Line,
				found, written)
		})
		if n == nil || !ValueOf(n).equal(v) {
			t.Errorf("%s is written as\n%s", text, written)
		}
	}
	v := Mapping().Set("a", &Value{Kind: Null, Above: "first\nsecond"})
	if got := string(v.Append(nil, 2)); got != "  # first\n  # second\n  a:\n" {
		t.Errorf("comments are written as %q", got)
	}
}

func TestPlacesOfNodes(t *testing.T) {
	root := Parse("f.yaml", []byte(sample), func(at *Node, _, found string) { t.Error(found) })
	n := root.Find([]string{"entities", "Booking", "fields", "note", "type"})
	if n == nil || n.Pointer() != "/entities/Booking/fields/note/type" ||
		n.Path() != "$.entities.Booking.fields.note.type" || n.Pos().String() != "f.yaml:10:20" {
		t.Errorf("the place is %v %v %v", n.Pointer(), n.Path(), n.Pos())
	}
	if root.Find([]string{"endpoints", "x"}) != nil || root.Find([]string{"inkret", "x"}) != nil ||
		root.Find([]string{"no", "x"}) != nil {
		t.Error("something is found where nothing is")
	}
}

func FuzzApply(f *testing.F) {
	f.Add(sample, "/entities/Booking/fields/id", "{}")
	f.Add("a: b\n", "/c", "[1]")
	f.Fuzz(func(t *testing.T, text, path, json string) {
		v, err := FromJSON([]byte(json))
		if err != nil {
			return
		}
		for _, op := range []string{"add", "replace", "remove"} {
			Apply(text, []Op{{Op: op, Path: path, Value: v}}) // must end, and not panic
		}
	})
}
