package document

import (
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"reflect"
	"strings"
	"testing"

	"github.com/goccy/go-yaml"
)

// laidOut writes a value in one of several layouts, with comments where the layout allows them.
func laidOut(v *Value, layout string, r *rand.Rand) string {
	switch layout {
	case "JSON, indented":
		var any any
		json.Unmarshal([]byte(v.JSON()), &any)
		text, _ := json.MarshalIndent(any, "", "   ")
		return string(text) + "\n"
	case "JSON, in one line":
		return v.JSON()
	case "JSON, tabs":
		var any any
		json.Unmarshal([]byte(v.JSON()), &any)
		text, _ := json.MarshalIndent(any, "", "\t")
		return string(text) + "\n"
	case "braces":
		return braces(v, 0, r) + "\n"
	}
	return strings.Join(commented(string(v.Append(nil, 0)), r), "\n")
}

// commented puts comments above some lines and behind some.
func commented(text string, r *rand.Rand) []string {
	var out []string
	for i, line := range strings.Split(text, "\n") {
		in := len(line) - len(strings.TrimLeft(line, " "))
		if r.IntN(5) == 0 && line != "" {
			out = append(out, strings.Repeat(" ", in)+fmt.Sprintf("# above %d", i))
		}
		if r.IntN(5) == 0 && line != "" {
			line += fmt.Sprintf("  # behind %d", i)
		}
		out = append(out, line)
	}
	return out
}

// braces writes a value in braces over several lines, with comments.
func braces(v *Value, depth int, r *rand.Rand) string {
	if len(v.Items) == 0 {
		return v.line(true)
	}
	open, end := "{", "}"
	if v.Kind == List {
		open, end = "[", "]"
	}
	var b strings.Builder
	b.WriteString(open)
	for i, item := range v.Items {
		switch r.IntN(4) {
		case 0:
			b.WriteString(" ")
		case 1:
			b.WriteString(" # 'of' {an, entry\n" + strings.Repeat("  ", depth+1))
		default:
			b.WriteString("\n" + strings.Repeat("  ", depth+1))
		}
		if v.Kind == Map {
			b.WriteString(plainOrQuoted(v.Keys[i], true) + ": ")
		}
		text := braces(item, depth+1, r)
		if item.Kind == Null {
			text = "null"
		}
		b.WriteString(text)
		if i+1 < len(v.Items) || r.IntN(4) == 0 {
			b.WriteString(",")
		}
	}
	b.WriteString("\n" + strings.Repeat("  ", depth) + end)
	return b.String()
}

// madeUp makes a value at random.
func madeUp(r *rand.Rand, depth int) *Value {
	switch n := r.IntN(10); {
	case n < 3 && depth > 0:
		v := Mapping()
		for range r.IntN(4) {
			v.Set([]string{"id", "name", "a b", "x-y", "1", "true", "k: v", "quo\"te", "it's", "ä", "#no",
				"/p~"}[r.IntN(12)], madeUp(r, depth-1))
		}
		return v
	case n < 5 && depth > 0:
		v := &Value{Kind: List}
		for range r.IntN(4) {
			v.Items = append(v.Items, madeUp(r, depth-1))
		}
		return v
	case n < 6:
		return Count(r.IntN(900) - 100)
	case n < 7:
		return Truth(r.IntN(2) == 0)
	case n < 8:
		return Nothing()
	}
	return Text([]string{"word", "", "a: b # c", "- x", "null", "yes", "007", "1e3", "it's", "say \"x\"", "{a}", "[b",
		"two\nlines", " pads ", "%", "@x", "`y`", "*z", "&a", "!t", "? q", ", c", "0x1f", "ende\u00e9",
		"~"}[r.IntN(25)])
}

// asOthersRead returns the values of a text, parsed by another library, as JSON.
func asOthersRead(t *testing.T, text string) any {
	t.Helper()
	if json.Valid([]byte(text)) {
		var v any
		json.Unmarshal([]byte(text), &v)
		return v
	}
	data, err := yaml.YAMLToJSON([]byte(text))
	if err != nil {
		t.Fatalf("another library cannot read it: %v in\n%s", err, text)
	}
	var v any
	if err := json.Unmarshal(data, &v); err != nil {
		t.Fatalf("%v in %s", err, data)
	}
	return v
}

// patched applies an operation to plain values as RFC 6902 defines it.
func patched(v any, tokens []string, o Op) any {
	if len(tokens) == 0 {
		var value any
		json.Unmarshal([]byte(o.Value.JSON()), &value)
		return value
	}
	var value any
	if o.Value != nil {
		json.Unmarshal([]byte(o.Value.JSON()), &value)
	}
	switch in := v.(type) {
	case map[string]any:
		if len(tokens) > 1 {
			in[tokens[0]] = patched(in[tokens[0]], tokens[1:], o)
			return in
		}
		if o.Op == "remove" {
			delete(in, tokens[0])
			return in
		}
		in[tokens[0]] = value
		return in
	case []any:
		var i int
		if fmt.Sscan(tokens[0], &i); tokens[0] == "-" {
			i = len(in)
		}
		if len(tokens) > 1 {
			in[i] = patched(in[i], tokens[1:], o)
			return in
		}
		switch o.Op {
		case "remove":
			return append(in[:i:i], in[i+1:]...)
		case "add":
			return append(in[:i:i], append([]any{value}, in[i:]...)...)
		}
		in[i] = value
		return in
	}
	return v
}

// TestEditsByAnotherLibrary applies random operations to random texts in several layouts and line ends, and parses
// the result with another library: it must be what RFC 6902 makes of the values before. JSON stays JSON, line ends
// stay, and so do comments outside of what is removed.
func TestEditsByAnotherLibrary(t *testing.T) {
	layouts := []string{"lines", "braces", "JSON, indented", "JSON, in one line", "JSON, tabs"}
	done, refused := map[string]int{}, map[string]int{}
	for seed := range uint64(4000) {
		r := rand.New(rand.NewPCG(seed, 5))
		v := Mapping()
		for _, name := range []string{"one", "two", "three"} {
			v.Set(name, madeUp(r, 4))
		}
		layout := layouts[seed%uint64(len(layouts))]
		text := laidOut(v, layout, r)
		crlf := r.IntN(3) == 0
		if crlf {
			text = strings.ReplaceAll(text, "\n", "\r\n")
		}
		root := Parse("", []byte(text), func(at *Node, _, found string) {
			t.Fatalf("%v: %s in\n%s", at.Pos(), found,
				text)
		})
		var all []*Node
		collect(root, &all)
		n := all[r.IntN(len(all))]
		o := Op{Op: "replace", Path: n.Pointer(), Value: madeUp(r, 2)}
		switch {
		case r.IntN(3) == 0:
			o = Op{Op: "remove", Path: n.Pointer()}
		case n.Kind == Map && r.IntN(2) == 0:
			o.Op, o.Path = "add", n.Pointer()+"/new"
		case n.Kind == List && r.IntN(2) == 0:
			o.Op, o.Path = "add", fmt.Sprintf("%s/%d", n.Pointer(), r.IntN(len(n.Items)+1))
		}
		if o.Path == "" {
			continue
		}
		want := patched(asOthersRead(t, text), split(o.Path), o)
		got, err := Apply(text, []Op{o})
		if err != nil {
			refused[layout]++
			if layout != "lines" && layout != "braces" {
				t.Errorf("seed %d, %s: %s %s: %v in\n%s", seed, layout, o.Op, o.Path, err, text)
			}
			continue
		}
		done[layout]++
		if is := asOthersRead(t, got); !reflect.DeepEqual(is, want) {
			a, _ := json.Marshal(want)
			b, _ := json.Marshal(is)
			t.Fatalf("seed %d, %s: %s %s %s of\n%s\ngives\n%s\nread as %s, want %s", seed, layout, o.Op, o.Path,
				value1(o), text, got, b, a)
		}
		if strings.HasPrefix(layout, "JSON") && !json.Valid([]byte(got)) {
			t.Fatalf("seed %d: %s %s of\n%s\ngives no JSON:\n%s", seed, o.Op, o.Path, text, got)
		}
		if crlf && strings.Contains(text, "\n") && strings.Count(got, "\n") != strings.Count(got, "\r\n") {
			t.Fatalf("seed %d: line ends of %q differ", seed, got)
		}
		if o.Op == "add" && strings.Count(got, "# above")+strings.Count(got, "# behind")+
			strings.Count(got, "# 'of'") < strings.Count(text, "# above")+strings.Count(text, "# behind")+
			strings.Count(text, "# 'of'") {
			t.Fatalf("seed %d, %s: %s %s loses a comment of\n%s\ngiving\n%s", seed, layout, o.Op, o.Path, text, got)
		}
	}
	t.Log(done, "refused", refused)
	for _, layout := range layouts {
		if refused[layout]*20 > done[layout] {
			t.Errorf("%s: %d edits are refused, %d done", layout, refused[layout], done[layout])
		}
	}
}

func value1(o Op) string {
	if o.Value == nil {
		return ""
	}
	return o.Value.JSON()
}
