// Package document parses YAML documents into nodes with positions, and edits their text so that everything else,
// including comments and order, stays unchanged.
//
// [Parse] returns the tree, [Apply] applies a JSON Patch (RFC 6902) to the text, [Value.Append] writes new text.
package document

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"math/big"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"sync"
	"unicode/utf8"

	"go.yaml.in/yaml/v4"

	"inkret/core/place"
)

// Kind is the type of a node.
type Kind uint8

const (
	Null Kind = iota
	Bool
	Number
	String
	Map
	List
)

var kindNames = [...]string{"nothing", "a truth value", "a number", "text", "a mapping", "a list"}

// Pos is a position in a file. Line and Column count from 1; the column counts
// code points. The zero Pos is no position.
type Pos struct {
	File   string `json:"file"`
	Line   int    `json:"line"`
	Column int    `json:"column"`
}

func (p Pos) String() string { return fmt.Sprintf("%s:%d:%d", p.File, p.Line, p.Column) }

// Node is one value of a document, with its position and its parent.
type Node struct {
	Kind         Kind
	Text         string // of a scalar, unquoted
	File         string
	Line, Column int
	Pairs        []*Node // of a mapping: the values, each with its Name set
	Items        []*Node // of a list

	Parent  *Node
	Name    *Node  // the key under which it stands in a mapping
	Index   int    // its index in a list
	Flow    bool   // a mapping or list in braces or brackets
	Aliased bool   // it stands elsewhere, and is referred to here
	Comment string // lines of comments above it, behind it and below it, without '#'

	byName map[string]*Node // of a wide mapping: its Pairs
}

// wide is the number of pairs from which a mapping is indexed.
const wide = 24

// Pos returns the node's position.
func (n *Node) Pos() Pos { return Pos{File: n.File, Line: n.Line, Column: n.Column} }

// Describe describes the node's value, for an error.
func (n *Node) Describe() string {
	switch n.Kind {
	case String, Number, Bool:
		text := n.Text
		if utf8.RuneCountInString(text) > 40 {
			text = string([]rune(text)[:40]) + "…"
		}
		return fmt.Sprintf("%s %q", kindNames[n.Kind], text)
	}
	return kindNames[n.Kind]
}

// Get returns the value under a name of a mapping, or nil.
func (n *Node) Get(name string) *Node {
	if n.byName != nil {
		return n.byName[name]
	}
	for _, p := range n.Pairs {
		if p.Name.Text == name {
			return p
		}
	}
	return nil
}

// add appends a pair with a new name.
func (n *Node) add(p *Node) {
	n.Pairs = append(n.Pairs, p)
	if len(n.Pairs) == wide {
		n.byName = map[string]*Node{}
		for _, q := range n.Pairs {
			n.byName[q.Name.Text] = q
		}
	} else if n.byName != nil {
		n.byName[p.Name.Text] = p
	}
}

// JSON returns the scalar as JSON text.
func (n *Node) JSON() string {
	switch n.Kind {
	case Null:
		return "null"
	case Bool:
		return strings.ToLower(n.Text)
	case Number:
		if json.Valid([]byte(n.Text)) {
			return n.Text
		}
	}
	text, _ := json.Marshal(n.Text)
	return string(text)
}

const (
	// maxDepth limits nesting; use a named shape instead of deeper nesting.
	maxDepth = 200
	// maxNodes limits a document after aliases are expanded, so that a few lines of aliases cannot grow without
	// end.
	maxNodes = 1_000_000
)

// Report receives a problem at a node: what was expected, and what was found.
type Report func(at *Node, expected, found string)

// Parse parses one YAML 1.2 file, which may be JSON. It returns nil for an empty file and reports every problem.
// The nodes must not be changed: equal texts may return the same nodes.
func Parse(file string, data []byte, report Report) *Node {
	if root := parsed.find(file, data); root != nil {
		return root
	}
	faults := 0
	root := parse(file, data, func(at *Node, expected, found string) {
		faults++
		report(at, expected, found)
	})
	if root != nil && faults == 0 {
		parsed.keep(file, data, root)
	}
	return root
}

// parsed caches the last long texts, because one change of a contract parses the same text several times, and the
// next change begins with the last result.
var parsed recent

type recent struct {
	sync.Mutex
	all []recentText // the latest first
}

type recentText struct {
	file, text string
	root       *Node
}

const (
	leastKept = 64 << 10 // shorter ones are read as fast
	mostKept  = 8 << 20  // bytes of text, all together
	mostTexts = 4
)

func (r *recent) find(file string, data []byte) *Node {
	if len(data) < leastKept {
		return nil
	}
	r.Lock()
	defer r.Unlock()
	for i, one := range r.all {
		if one.file == file && one.text == string(data) {
			r.all = slices.Insert(slices.Delete(r.all, i, i+1), 0, one)
			return one.root
		}
	}
	return nil
}

func (r *recent) keep(file string, data []byte, root *Node) {
	if len(data) < leastKept || len(data) > mostKept {
		return
	}
	r.Lock()
	defer r.Unlock()
	r.all = slices.Insert(r.all, 0, recentText{file, string(data), root})
	bytes := 0
	for i, one := range r.all {
		if bytes += len(one.text); bytes > mostKept || i == mostTexts {
			r.all = slices.Delete(r.all, i, len(r.all))
			break
		}
	}
}

func parse(file string, data []byte, report Report) *Node {
	whole := &Node{File: file, Line: 1, Column: 1}
	if !utf8.Valid(data) {
		report(whole, "UTF-8 text", "the file is not UTF-8")
		return nil
	}
	loader, err := yaml.NewLoader(bytes.NewReader(asRead(data)), yaml.WithV4Defaults())
	if err != nil {
		report(whole, "YAML 1.2", err.Error())
		return nil
	}
	var bodies []*yaml.Node
	for len(bodies) < 2 { // more than one is a fault
		var doc yaml.Node
		if err := loader.Load(&doc); errors.Is(err, io.EOF) {
			break
		} else if err != nil {
			expected, found := "YAML 1.2", err.Error()
			var syntax *yaml.LoadError
			if errors.As(err, &syntax) {
				found = syntax.Message
				if syntax.Mark.Line > 0 {
					whole.Line, whole.Column = syntax.Mark.Line, syntax.Mark.Column
				}
			}
			report(whole, expected, found)
			return nil
		}
		if len(doc.Content) > 0 {
			bodies = append(bodies, doc.Content[0])
		}
	}
	if len(bodies) == 0 {
		report(whole, "a mapping", "the file is empty")
		return nil
	}
	c := converter{report: report, file: file}
	if len(bodies) > 1 {
		second := c.node(bodies[1], nil)
		report(second, "one document a file", "a second document begins here")
	}
	return c.node(bodies[0], nil)
}

// asRead prepares a text for the parser, which only knows the YAML 1.1 directive but reads both versions alike. No
// position changes.
func asRead(data []byte) []byte {
	const directive = "%YAML 1.2"
	bom := len(data) - len(bytes.TrimPrefix(data, []byte("\ufeff")))
	if !bytes.HasPrefix(data[bom:], []byte(directive)) {
		return data
	}
	data = bytes.Clone(data)
	data[bom+len(directive)-1] = '1'
	return data
}

// converter turns the parser's tree into nodes and expands aliases.
type converter struct {
	report  Report
	file    string
	aliases int
	depth   int
	count   int
	full    bool
	name    *Node // of the node that is made next: faults inside of it tell where it is
	index   int
}

func (c *converter) node(from *yaml.Node, parent *Node) *Node {
	n := &Node{File: c.file, Parent: parent, Name: c.name, Index: c.index, Aliased: c.aliases > 0, Line: from.Line,
		Column: from.Column}
	c.name, c.index = nil, 0
	c.depth++
	defer func() { c.depth-- }()
	if c.count++; c.depth > maxDepth || c.count > maxNodes {
		if !c.full {
			c.full = true
			c.report(n, fmt.Sprintf("at most %d levels and %d values", maxDepth, maxNodes),
				"the document is too deep or too large here")
		}
		return n
	}
	switch from.Kind {
	case yaml.MappingNode:
		n.Kind, n.Flow = Map, from.Style&yaml.FlowStyle != 0
		for i := 0; i+1 < len(from.Content); i += 2 { // a merge gives way to every pair of the mapping itself
			if !merges(from.Content[i]) {
				c.pair(n, from.Content[i], from.Content[i+1])
			}
		}
		for i := 0; i+1 < len(from.Content); i += 2 {
			if merges(from.Content[i]) {
				c.merged(n, from.Content[i+1])
			}
		}
	case yaml.SequenceNode:
		n.Kind, n.Flow = List, from.Style&yaml.FlowStyle != 0
		for i, item := range from.Content {
			c.index = i
			child := c.node(item, n)
			child.Index = i
			n.Items = append(n.Items, child)
		}
	case yaml.AliasNode:
		if from.Alias == nil {
			c.report(n, "an anchor defined above", "alias *"+from.Value+" has no anchor")
			return n
		}
		c.aliases++
		defer func() { c.aliases-- }()
		c.name, c.index = n.Name, n.Index
		return c.node(from.Alias, parent)
	case yaml.ScalarNode:
		n.Kind, n.Text = scalar(from)
	}
	return n
}

// scalar returns a scalar's kind by the core schema of YAML 1.2 (chapter 10.3), and its text; numbers as in JSON.
func scalar(from *yaml.Node) (Kind, string) {
	quoted := from.Style&(yaml.SingleQuotedStyle|yaml.DoubleQuotedStyle|yaml.LiteralStyle|yaml.FoldedStyle) != 0
	if quoted || from.Style&yaml.TaggedStyle != 0 && from.ShortTag() == "!!str" {
		return String, from.Value
	}
	switch from.Value {
	case "", "~", "null", "Null", "NULL":
		return Null, ""
	case "true", "True", "TRUE", "false", "False", "FALSE":
		return Bool, from.Value
	}
	if number, ok := numeral(from.Value); ok {
		return Number, number
	}
	return String, from.Value
}

var (
	decimal   = regexp.MustCompile(`^[-+]?(\.[0-9]+|[0-9]+(\.[0-9]*)?)([eE][-+]?[0-9]+)?$`)
	otherBase = regexp.MustCompile(`^0(o[0-7]+|x[0-9a-fA-F]+)$`)
	endless   = regexp.MustCompile(`^([-+]?\.(inf|Inf|INF)|\.(nan|NaN|NAN))$`)
)

// numeral converts a number of the core schema to JSON; numbers that JSON lacks stay as they are.
func numeral(text string) (string, bool) {
	if text == "" || strings.IndexByte("+-.0123456789", text[0]) < 0 {
		return text, false
	}
	const longest = 400 // digits that an exponent may stand for
	if strings.ContainsAny(text, "eE") && len(text) < longest && decimal.MatchString(text) {
		if e, err := strconv.Atoi(strings.TrimPrefix(text[strings.IndexAny(text, "eE")+1:], "+")); err == nil &&
			e < longest && e > -longest {
			if n, ok := new(big.Rat).SetString(text); ok && n.IsInt() {
				return n.Num().String(), true
			}
		}
	}
	switch {
	case json.Valid([]byte(text)):
		return text, decimal.MatchString(text)
	case otherBase.MatchString(text):
		if n, ok := new(big.Int).SetString(text, 0); ok {
			return n.String(), true
		}
	case endless.MatchString(text):
		return text, true
	case decimal.MatchString(text):
		whole, exponent := text, ""
		if i := strings.IndexAny(text, "eE"); i >= 0 {
			whole, exponent = text[:i], text[i:]
		}
		sign := ""
		if whole[0] == '-' {
			sign = "-"
		}
		digits, fraction, _ := strings.Cut(strings.TrimLeft(whole, "+-"), ".")
		if digits = strings.TrimLeft(digits, "0"); digits == "" {
			digits = "0"
		}
		if fraction != "" {
			fraction = "." + fraction
		}
		return sign + digits + fraction + exponent, true
	}
	return text, false
}

func merges(key *yaml.Node) bool {
	return key.Kind == yaml.ScalarNode && key.Value == "<<" &&
		key.Style&(yaml.SingleQuotedStyle|yaml.DoubleQuotedStyle) == 0
}

func (c *converter) pair(n *Node, name, value *yaml.Node) {
	comment := comments(name.HeadComment, name.LineComment, value.LineComment, name.FootComment)
	key := &Node{File: c.file, Kind: String, Parent: n, Aliased: c.aliases > 0, Line: name.Line, Column: name.Column}
	key.Name = key
	if name.Kind == yaml.AliasNode && name.Alias != nil {
		name = name.Alias
	}
	if name.Kind != yaml.ScalarNode {
		c.report(key, "a name", "a mapping or list stands where a name is expected")
		return
	}
	key.Text = name.Value
	if old := n.Get(key.Text); old != nil {
		c.report(key, "each name once", fmt.Sprintf("%q is defined twice, first at %s", key.Text, old.Name.Pos()))
		return
	}
	c.name = key
	child := c.node(value, n)
	child.Name, child.Comment = key, comment
	if child.Kind == Null {
		child.Line, child.Column = key.Line, key.Column
	}
	n.add(child)
}

// comments returns comments without their marks.
func comments(all ...string) string {
	var lines []string
	for _, text := range all {
		for _, line := range strings.Split(text, "\n") {
			if line = strings.TrimSpace(strings.TrimPrefix(strings.TrimSpace(line), "#")); line != "" {
				lines = append(lines, line)
			}
		}
	}
	return strings.Join(lines, "\n")
}

func (c *converter) merged(n *Node, value *yaml.Node) {
	c.aliases++
	defer func() { c.aliases-- }()
	c.merge(n, c.node(value, n))
}

// merge adds the pairs of a YAML merge key that n does not have itself.
func (c *converter) merge(n, from *Node) {
	for _, item := range from.Items {
		c.merge(n, item)
	}
	for _, p := range from.Pairs {
		if n.Get(p.Name.Text) == nil {
			p.Parent = n
			n.add(p)
		}
	}
}

// Path returns the node's JSONPath (RFC 9535).
func (n *Node) Path() string {
	if n.Parent == nil {
		return place.Root
	}
	if n.Name == nil {
		return fmt.Sprintf("%s[%d]", n.Parent.Path(), n.Index)
	}
	return n.Parent.Path() + place.Name(n.Name.Text)
}

// Pointer returns the node's JSON Pointer (RFC 6901).
func (n *Node) Pointer() string {
	if n == nil || n.Parent == nil {
		return ""
	}
	up := []byte(n.Parent.Pointer())
	if n.Name == nil {
		return string(place.AppendIndex(up, n.Index))
	}
	return string(place.AppendPointer(up, []byte(n.Name.Text)))
}

// Find returns the node at a JSON Pointer below n, or nil.
func (n *Node) Find(tokens []string) *Node {
	for _, t := range tokens {
		switch {
		case n == nil:
			return nil
		case n.Kind == Map:
			n = n.Get(t)
		case n.Kind == List:
			i, err := strconv.Atoi(t)
			if err != nil || i < 0 || i >= len(n.Items) {
				return nil
			}
			n = n.Items[i]
		default:
			return nil
		}
	}
	return n
}

// Same reports whether two nodes have equal values, however they are written.
func (n *Node) Same(m *Node) bool {
	if n == nil || m == nil {
		return n == m
	}
	if n.Kind != m.Kind || n.Text != m.Text || len(n.Pairs) != len(m.Pairs) || len(n.Items) != len(m.Items) {
		return false
	}
	for i, p := range n.Pairs {
		if p.Name.Text != m.Pairs[i].Name.Text || !p.Same(m.Pairs[i]) { // order counts: messages and pages follow it
			return false
		}
	}
	for i, item := range n.Items {
		if !item.Same(m.Items[i]) {
			return false
		}
	}
	return true
}
