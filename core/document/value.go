package document

import (
	"bytes"
	"encoding/json"
	"fmt"
	"io"
	"regexp"
	"strings"
	"unicode/utf8"

	"github.com/go-json-experiment/json/jsontext"
)

// Value is a value to write into a document. Mappings keep their order.
type Value struct {
	Kind  Kind
	Text  string   // of a scalar: the text, or JSON's writing of a number or truth value
	Keys  []string // of a mapping, one for each of Items
	Items []*Value // of a mapping or list
	Above string   // comment lines above a pair or item, without '#'
	Block bool     // a mapping or list that is written in lines, be it ever so short
}

// Text returns a text.
func Text(s string) *Value { return &Value{Kind: String, Text: s} }

// Truth returns a truth value.
func Truth(b bool) *Value { return &Value{Kind: Bool, Text: fmt.Sprint(b)} }

// Count returns a whole number.
func Count(n int) *Value { return &Value{Kind: Number, Text: fmt.Sprint(n)} }

// Nothing returns the empty value.
func Nothing() *Value { return &Value{Kind: Null} }

// Mapping returns an empty mapping.
func Mapping() *Value { return &Value{Kind: Map} }

// Texts returns a list of texts.
func Texts(all ...string) *Value {
	v := &Value{Kind: List}
	for _, s := range all {
		v.Items = append(v.Items, Text(s))
	}
	return v
}

// Set sets a key of a mapping, in its place or at the end, and returns the mapping.
func (v *Value) Set(key string, one *Value) *Value {
	for i, k := range v.Keys {
		if k == key {
			v.Items[i] = one
			return v
		}
	}
	v.Keys, v.Items = append(v.Keys, key), append(v.Items, one)
	return v
}

// Get returns the value of a mapping's key, or nil.
func (v *Value) Get(key string) *Value {
	if v == nil || v.Kind != Map {
		return nil
	}
	for i, k := range v.Keys {
		if k == key {
			return v.Items[i]
		}
	}
	return nil
}

// Add appends v to a list and returns the list.
func (v *Value) Add(one *Value) *Value {
	v.Items = append(v.Items, one)
	return v
}

// ValueOf copies a node without positions.
func ValueOf(n *Node) *Value {
	v := &Value{Kind: n.Kind}
	switch n.Kind {
	case Map:
		for _, p := range n.Pairs {
			v.Keys, v.Items = append(v.Keys, p.Name.Text), append(v.Items, ValueOf(p))
		}
	case List:
		for _, i := range n.Items {
			v.Items = append(v.Items, ValueOf(i))
		}
	case Number, Bool:
		v.Text = n.JSON()
	default:
		v.Text = n.Text
	}
	return v
}

// Copy is ValueOf including comments, each above what it is about.
func Copy(n *Node) *Value {
	v := ValueOf(n)
	comment(v, n)
	return v
}

func comment(v *Value, n *Node) {
	for i, p := range n.Pairs {
		v.Items[i].Above = p.Comment
		comment(v.Items[i], p)
	}
	for i, item := range n.Items {
		comment(v.Items[i], item)
	}
}

// equal compares values. The order of keys matters, comments do not.
func (v *Value) equal(o *Value) bool {
	if v.Kind != o.Kind || v.Text != o.Text || len(v.Items) != len(o.Items) {
		return false
	}
	for i, item := range v.Items {
		if v.Kind == Map && v.Keys[i] != o.Keys[i] || !item.equal(o.Items[i]) {
			return false
		}
	}
	return true
}

// FromJSON parses one JSON value and keeps the order of members.
func FromJSON(data []byte) (*Value, error) {
	dec := jsontext.NewDecoder(bytes.NewReader(data))
	v, err := readJSON(dec)
	if err != nil {
		return nil, err
	}
	if _, err := dec.ReadToken(); err != io.EOF {
		return nil, fmt.Errorf("something follows the value")
	}
	return v, nil
}

// MarshalJSON encodes v as JSON, members in their order.
func (v *Value) MarshalJSON() ([]byte, error) {
	var b bytes.Buffer
	v.writeJSON(&b)
	return b.Bytes(), nil
}

func (v *Value) writeJSON(b *bytes.Buffer) {
	quote := func(s string) {
		enc := json.NewEncoder(b)
		enc.SetEscapeHTML(false)
		if enc.Encode(s) == nil {
			b.Truncate(b.Len() - 1) // the encoder's line feed
		}
	}
	switch v.Kind {
	case Null:
		b.WriteString("null")
	case Bool, Number:
		b.WriteString(v.Text)
	case String:
		quote(v.Text)
	case List, Map:
		open, end := byte('['), byte(']')
		if v.Kind == Map {
			open, end = '{', '}'
		}
		b.WriteByte(open)
		for i, item := range v.Items {
			if i > 0 {
				b.WriteByte(',')
			}
			if v.Kind == Map {
				quote(v.Keys[i])
				b.WriteByte(':')
			}
			item.writeJSON(b)
		}
		b.WriteByte(end)
	}
}

func readJSON(dec *jsontext.Decoder) (*Value, error) {
	token, err := dec.ReadToken()
	if err != nil {
		return nil, err
	}
	switch token.Kind() {
	case '{':
		v := Mapping()
		for dec.PeekKind() != '}' {
			key, err := dec.ReadToken()
			if err != nil {
				return nil, err
			}
			name := key.String()
			item, err := readJSON(dec)
			if err != nil {
				return nil, err
			}
			v.Keys, v.Items = append(v.Keys, name), append(v.Items, item)
		}
		_, err := dec.ReadToken()
		return v, err
	case '[':
		v := &Value{Kind: List}
		for dec.PeekKind() != ']' {
			item, err := readJSON(dec)
			if err != nil {
				return nil, err
			}
			v.Items = append(v.Items, item)
		}
		_, err := dec.ReadToken()
		return v, err
	case '"':
		return Text(token.String()), nil
	case '0':
		number, _ := numeral(token.String())
		return &Value{Kind: Number, Text: number}, nil
	case 't', 'f':
		return &Value{Kind: Bool, Text: token.String()}, nil
	}
	return Nothing(), nil
}

// widest is the line length from which a mapping or list is split.
const widest = 110

// step is the indentation per level.
const step = 2

// Append writes v in lines that are indented by indent blanks.
func (v *Value) Append(dst []byte, indent int) []byte {
	switch {
	case v.Kind == Map && len(v.Items) > 0:
		for i, key := range v.Keys {
			dst = appendComment(dst, v.Items[i].Above, indent)
			dst = append(dst, strings.Repeat(" ", indent)...)
			dst = v.Items[i].appendBehind(append(dst, plainOrQuoted(key, false)+":"...), indent, indent+
				utf8.RuneCountInString(key)+1)
		}
	case v.Kind == List && len(v.Items) > 0:
		for _, item := range v.Items {
			dst = appendComment(dst, item.Above, indent)
			dst = append(dst, strings.Repeat(" ", indent)+"- "...)
			dst = item.appendItem(dst, indent)
		}
	default:
		dst = append(dst, strings.Repeat(" ", indent)+v.line(false)+"\n"...)
	}
	return dst
}

// appendItem writes a list item after its dash.
func (v *Value) appendItem(dst []byte, indent int) []byte {
	if line := v.line(false); !v.spreads(indent + step) {
		return append(dst, line+"\n"...)
	}
	lines := v.Append(nil, indent+step)
	return append(dst, lines[indent+step:]...) // its first line stands behind the dash
}

// appendBehind writes v after its key and colon.
func (v *Value) appendBehind(dst []byte, indent, column int) []byte {
	if !v.spreads(column + 1) {
		if line := v.line(false); line != "" {
			dst = append(dst, " "+line...)
		}
		return append(dst, '\n')
	}
	return v.Append(append(dst, '\n'), indent+step)
}

func appendComment(dst []byte, text string, indent int) []byte {
	if text == "" {
		return dst
	}
	for _, line := range strings.Split(text, "\n") {
		dst = append(dst, strings.TrimRight(strings.Repeat(" ", indent)+"# "+line, " ")+"\n"...)
	}
	return dst
}

// spreads reports whether v is written in lines of its own.
func (v *Value) spreads(column int) bool {
	if len(v.Items) == 0 {
		return false
	}
	return v.Block || v.wantsBlock() || column+utf8.RuneCountInString(v.line(false)) > widest
}

// wantsBlock reports whether something in v needs lines of its own.
func (v *Value) wantsBlock() bool {
	for _, item := range v.Items {
		if item.Above != "" || item.Block && len(item.Items) > 0 || item.wantsBlock() {
			return true
		}
	}
	return false
}

// Flow returns the value on one line, as written in braces.
func (v *Value) Flow() string { return v.line(true) }

// line writes v on one line. flow means that it is in braces or brackets.
func (v *Value) line(flow bool) string {
	switch v.Kind {
	case Null:
		return ""
	case Bool, Number:
		return v.Text
	case String:
		return plainOrQuoted(v.Text, flow)
	}
	var b strings.Builder
	open, end := "{", "}"
	if v.Kind == List {
		open, end = "[", "]"
	}
	b.WriteString(open)
	for i, item := range v.Items {
		if i > 0 {
			b.WriteString(", ")
		}
		if v.Kind == Map {
			b.WriteString(plainOrQuoted(v.Keys[i], true) + ": ")
		}
		text := item.line(true)
		if item.Kind == Null && v.Kind == List {
			text = "null"
		}
		b.WriteString(text)
	}
	b.WriteString(end)
	return b.String()
}

var (
	// plain matches texts that need no quotes, in braces or not.
	plain = regexp.MustCompile(`^([\p{L}_/$.][\p{L}\p{N}_ ./$+=@()*-]*|[1-5]XX)$`)
	// special lists plain texts that some YAML version reads as something else.
	special = regexp.MustCompile(`(?i)^(null|true|false|yes|no|on|off|y|n|~|\.nan|[-+]?\.inf|\.[0-9]+.*)$`)
)

func plainOrQuoted(s string, flow bool) string {
	if plain.MatchString(s) && !special.MatchString(s) && !strings.HasSuffix(s, " ") && len(s) < widest {
		return s
	}
	if !flow && len(s) < widest && proseFits(s) {
		return s
	}
	return quoted(s)
}

// unsafe escapes what YAML allows in a text but readers take for the mark of a file's encoding, or for a line's end.
var unsafe = strings.NewReplacer("\ufeff", `\ufeff`, "\u0085", `\u0085`, "\u007f", `\u007f`)

// quoted returns a text in double quotes, valid in JSON and YAML.
func quoted(s string) string {
	var b bytes.Buffer
	enc := json.NewEncoder(&b)
	enc.SetEscapeHTML(false)
	if enc.Encode(s) != nil {
		return `""`
	}
	return unsafe.Replace(strings.TrimSuffix(b.String(), "\n"))
}

// JSON returns the value on one line of JSON, with a space after each comma and colon.
func (v *Value) JSON() string {
	switch v.Kind {
	case Null:
		return "null"
	case Bool:
		return strings.ToLower(v.Text)
	case Number:
		return v.Text
	case String:
		return quoted(v.Text)
	}
	var b strings.Builder
	for i, item := range v.Items {
		if i > 0 {
			b.WriteString(", ")
		}
		if v.Kind == Map {
			b.WriteString(quoted(v.Keys[i]) + ": ")
		}
		b.WriteString(item.JSON())
	}
	if v.Kind == Map {
		return "{" + b.String() + "}"
	}
	return "[" + b.String() + "]"
}

// proseFits reports whether a sentence can be written without quotes outside of braces.
func proseFits(s string) bool {
	return prose.MatchString(s) && !special.MatchString(s) && !strings.Contains(s, ": ") &&
		!strings.Contains(s, " #") && !strings.HasSuffix(s, ":") && !strings.HasSuffix(s, " ")
}

var prose = regexp.MustCompile(`^[\p{L}_/$][\p{L}\p{N}_ ./$+=@()*,;:?!'{}–-]*$`)
