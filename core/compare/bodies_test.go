package compare

import (
	"fmt"
	"strings"
	"testing"
)

func describeBodies(all []BodyChange) string {
	var lines []string
	for _, c := range all {
		if c.Shift == Same {
			continue
		}
		line := string(c.Shift) + " " + c.Path
		if c.From != "" {
			line += " from " + c.From
		}
		if c.Before != nil {
			line += fmt.Sprintf(" was %s %d×%dB", strings.Join(c.Before.Types, "|"), c.Before.Values, c.Before.Bytes)
		}
		if c.After != nil {
			line += fmt.Sprintf(" is %s %d×%dB", strings.Join(c.After.Types, "|"), c.After.Values, c.After.Bytes)
		}
		if c.Below > 0 {
			line += fmt.Sprintf(" +%d", c.Below)
		}
		lines = append(lines, line)
	}
	return strings.Join(lines, "\n")
}

func TestBodiesSideBySide(t *testing.T) {
	for name, c := range map[string]struct{ before, after, want string }{
		"the same, written otherwise": {`{"b":1,"a":[true]}`, "{ \"a\": [false ] , \"b\":2 }\n",
			"resized $ was object 1×18B is object 1×25B\nresized $.a was array 1×10B is array 1×13B\nresized $.a[*] " +
				"was boolean 1×4B is boolean 1×5B"},
		"exactly the same": {`{"a":1}`, `{"a":2}`, ``},
		"a relation cut to a reference": {`{"id":1,"owner":{"id":2,"mail":"a@b.example"}}`, `{"id":1,"owner":2}`,
			"resized $ was object 1×46B is object 1×18B\nretyped $.owner was object 1×37B is number 1×9B\ngone " +
				"$.owner.id was number 1×6B\ngone $.owner.mail was string 1×20B"},
		"what went goes with what is inside": {`{"id":1,"skipper":{"id":2,"account":{"iban":"x"}},"skippers":1}`,
			`{"id":1,"skippers":1}`,
			"resized $ was object 1×63B is object 1×21B\ngone $.skipper was object 1×41B +3"},
		"what came": {`[{"a":1},{"a":2}]`, `[{"a":1,"pin":"1"},{"a":2,"pin":"2"}]`,
			"resized $ was array 1×17B is array 1×37B\nresized $[*] was object 2×14B is object 2×34B\nadded " +
				"$[*].pin is string 2×18B"},
		"a member with another name": {`{"data":[{"id":1,"price":5},{"id":2,"price":6}]}`,
			`{"data":[{"id":1,"berth_price":5},{"id":2,"berth_price":6}]}`,
			"resized $ was object 1×48B is object 1×60B\nresized $.data was array 1×46B is array 1×58B\nresized " +
				"$.data[*] was object 2×36B is object 2×48B\nrenamed $.data[*].berth_price from $.data[*].price was " +
				"number 2×18B is number 2×30B"},
		"an object with another name": {`{"owner":{"id":1}}`, `{"boat_owner":{"id":1}}`,
			"resized $ was object 1×18B is object 1×23B\nrenamed $.boat_owner from $.owner was object 1×16B is " +
				"object 1×21B"},
		"the only two, of one type": {`{"id":1,"x":"a"}`, `{"id":1,"y":"b"}`,
			"renamed $.y from $.x was string 1×7B is string 1×7B"},
		"of two types": {`{"id":1,"x":"a"}`, `{"id":1,"y":7}`,
			"resized $ was object 1×16B is object 1×14B\ngone $.x was string 1×7B\nadded $.y is number 1×5B"},
		"more than one that could be": {`{"a":1}`, `{"x":1,"y":2}`,
			"resized $ was object 1×7B is object 1×13B\ngone $.a was number 1×5B\nadded $.x is number 1×5B\nadded " +
				"$.y is number 1×5B"},
		"names that are data": {`{"17":{"n":1},"18":{"n":2}}`, `{"19":{"n":1}}`,
			"resized $ was object 1×27B is object 1×14B\nresized $[*] was object 2×24B is object 1×12B\nresized " +
				"$[*].n was number 2×10B is number 1×5B"},
		"null and a value": {`[{"a":null},{"a":"x"}]`, `[{"a":"y"},{"a":"x"}]`,
			"resized $ was array 1×22B is array 1×21B\nresized $[*] was object 2×19B is object 2×18B\nretyped " +
				"$[*].a was null|string 2×15B is string 2×14B"},
		"a body that breaks off": {`{"a":1,"b":2}`, `{"a":1,"b`,
			"resized $ was object 1×13B is object 1×6B\ngone $.b was number 1×5B"},
		"nothing": {``, `{"a":1}`, "added $ is object 1×7B +1"},
	} {
		if got := describeBodies(Bodies(Body{"application/json", []byte(c.before)},
			Body{"application/json", []byte(c.after)})); got != c.want {
			t.Errorf("%s:\n%s\nwant\n%s", name, got, c.want)
		}
	}
}

func TestBodiesInOtherNotations(t *testing.T) {
	page := func(json string) Body {
		return Body{"text/html", []byte(`<html><script id="state" type="application/json">` + json +
			`</script><p>words</p></html>`)}
	}
	got := describeBodies(Bodies(page(`{"a":1,"mail":"x"}`), page(`{"a":1}`)))
	if want :=
		"resized script#state >> $ was object 1×18B is object 1×7B\ngone script#state >> $.mail was string " +
			"1×10B"; got != want {
		t.Errorf("two pages:\n%s\nwant\n%s", got, want)
	}
	got = describeBodies(Bodies(Body{"application/x-ndjson", []byte("{\"a\":1}\n{\"a\":2}\n")},
		Body{"application/x-ndjson", []byte("{\"a\":1}\n")}))
	if !strings.Contains(got, "resized $[*].a was number 2×10B is number 1×5B") {
		t.Errorf("two lists of lines:\n%s", got)
	}
}

func TestSavedBytes(t *testing.T) {
	all := Bodies(Body{"application/json", []byte(`{"id":1,"note":"low tide"}`)},
		Body{"application/json", []byte(`{"id":1}`)})
	if all[0].Path != "$" || all[0].Saved() != 18 {
		t.Errorf("%+v saves %d bytes", all[0], all[0].Saved())
	}
}
