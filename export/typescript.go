package export

import (
	"fmt"
	"regexp"
	"strconv"
	"strings"
	"unicode"
	"unicode/utf8"

	"inkret/core/contract"
	"inkret/core/detect"
	"inkret/core/document"
)

// TypeScript exports declarations: an interface for each shape, and a type for each response and request body.
func TypeScript(c *contract.Contracts) []byte {
	s := newSchemas(c, nil, "", false)
	t := &typescript{names: map[string]string{}, taken: map[string]bool{}}
	for _, name := range builtIn {
		t.taken[name] = true
	}
	for _, shape := range c.Shapes {
		t.names[shape.Name] = t.free(declared(shape.Name))
	}
	operations := operationNames(c)
	var bodies strings.Builder
	for _, e := range c.Endpoints {
		for _, status := range statusesOf(e) {
			var variants []string
			for _, r := range e.Responses {
				if hasStatus(r, status) {
					variants = append(variants, t.of(s.response(r), 0))
				}
			}
			fmt.Fprintf(&bodies, "\n/** %s, status %s. */\nexport type %s = %s;\n", commentText(e.Text), status,
				t.free(operations[e.Text]+strings.Replace(status, "default", "Default", 1)),
				strings.Join(variants, " | "))
		}
		if len(e.Accepts) > 0 {
			var variants []string
			for _, a := range e.Accepts {
				variants = append(variants, t.of(s.response(a), 0))
			}
			fmt.Fprintf(&bodies, "\n/** What a client may send to %s. */\nexport type %s = %s;\n", commentText(e.Text),
				t.free(operations[e.Text]+"Request"), strings.Join(variants, " | "))
		}
	}
	var out strings.Builder
	fmt.Fprintf(&out, "// Written by Inkret from the contracts of %s: what each endpoint may expose.\n",
		commentText(c.Service))
	defs := s.definitions()
	for i, name := range defs.Keys {
		entity := ""
		if title := defs.Items[i].Get("title"); title != nil {
			entity = ", of the entity " + commentText(title.Text)
		}
		fmt.Fprintf(&out, "\n/** The shape %s%s. */\nexport interface %s %s\n", commentText(name), entity,
			t.names[name], t.object(defs.Items[i], 0))
	}
	out.WriteString(bodies.String())
	return []byte(out.String())
}

type typescript struct {
	names map[string]string // of shapes
	taken map[string]bool
}

func (t *typescript) free(name string) string {
	for i, try := 2, name; ; i++ {
		if !t.taken[try] {
			t.taken[try] = true
			return try
		}
		try = name + "_" + strconv.Itoa(i)
	}
}

// builtIn lists TypeScript types that declarations use, or that must not be redefined.
var builtIn = []string{"Array", "Record", "String", "Number", "Boolean", "Object", "Function", "Symbol", "BigInt",
	"Date", "Map", "Set", "Promise", "Error", "RegExp", "JSON", "Math", "Partial", "Required", "Readonly", "Pick",
	"Omit",
	"Exclude", "Extract", "Response", "Request"}

// declared returns the name of a shape's interface, a valid TypeScript name.
func declared(shape string) string {
	name := typeName(shape)
	if !identifier.MatchString(name) {
		name = "Shape" + notInName.ReplaceAllString(name, "")
	}
	return name
}

// typeName returns a type's name: "GET /v1/bookings/{booking_id}" becomes GetV1BookingsBookingId.
func typeName(s string) string {
	var b strings.Builder
	for _, w := range detect.Words(nil, []byte(s)) {
		r, n := utf8.DecodeRuneInString(w)
		b.WriteRune(unicode.ToUpper(r))
		b.WriteString(w[n:])
	}
	return b.String()
}

func commentText(s string) string { return strings.ReplaceAll(s, "*/", "* /") }

var identifier = regexp.MustCompile(`^[\p{L}_$][\p{L}\p{N}_$]*$`)

func quoted(s string) string { return string(JSON(document.Text(s))[:len(JSON(document.Text(s)))-1]) }

// of writes a schema's type.
func (t *typescript) of(v *document.Value, indent int) string {
	if ref := v.Get("$ref"); ref != nil {
		return t.names[ref.Text]
	}
	if any := v.Get("anyOf"); any != nil {
		var all []string
		for _, one := range any.Items {
			all = append(all, t.of(one, indent))
		}
		return strings.Join(all, " | ")
	}
	if values := v.Get("enum"); values != nil {
		var all []string
		for _, one := range values.Items {
			all = append(all, strings.TrimSpace(string(JSON(one))))
		}
		return strings.Join(all, " | ")
	}
	if one := v.Get("const"); one != nil {
		return strings.TrimSpace(string(JSON(one)))
	}
	kind := v.Get("type")
	if kind == nil {
		return "unknown"
	}
	types := kind.Items
	if kind.Kind != document.List {
		types = []*document.Value{kind}
	}
	var all []string
	for _, one := range types {
		switch one.Text {
		case "integer", "number":
			all = append(all, "number")
		case "array":
			inner := "unknown"
			if items := v.Get("items"); items != nil {
				inner = t.of(items, indent)
			}
			all = append(all, "Array<"+inner+">")
		case "object":
			all = append(all, t.object(v, indent))
		default:
			all = append(all, one.Text)
		}
	}
	return strings.Join(all, " | ")
}

func (t *typescript) object(v *document.Value, indent int) string {
	if more := v.Get("additionalProperties"); more != nil && more.Kind == document.Map {
		return "Record<string, " + t.of(more, indent) + ">"
	}
	properties := v.Get("properties")
	if properties == nil && v.Get("title") == nil {
		return "Record<string, unknown>"
	}
	if properties == nil {
		return "Record<string, never>"
	}
	required := map[string]bool{}
	if list := v.Get("required"); list != nil {
		for _, r := range list.Items {
			required[r.Text] = true
		}
	}
	var b strings.Builder
	b.WriteString("{\n")
	pad := strings.Repeat("  ", indent+1)
	for i, name := range properties.Keys {
		p := properties.Items[i]
		var notes []string
		if d := p.Get("description"); d != nil {
			notes = append(notes, d.Text)
		}
		if who := p.Get("x-inkret-audiences"); who != nil {
			var names []string
			for _, n := range who.Items {
				names = append(names, n.Text)
			}
			notes = append(notes, "Only for "+strings.Join(names, ", ")+".")
		}
		if f := p.Get("format"); f != nil {
			notes = append(notes, f.Text)
		}
		if len(notes) > 0 {
			fmt.Fprintf(&b, "%s/** %s */\n", pad, commentText(strings.Join(strings.Fields(strings.Join(notes, "; ")),
				" ")))
		}
		key := name
		if !identifier.MatchString(name) {
			key = quoted(name)
		}
		mark := "?"
		if required[name] {
			mark = ""
		}
		fmt.Fprintf(&b, "%s%s%s: %s;\n", pad, key, mark, t.of(p, indent+1))
	}
	b.WriteString(strings.Repeat("  ", indent) + "}")
	return b.String()
}
