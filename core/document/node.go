// Package document reads YAML documents as trees of nodes that know their place,
// and edits their text so that what is not touched, comments and order included,
// stays as it is.
//
// [Parse] gives the tree; [Apply] carries out a JSON Patch (RFC 6902) on the text;
// [Value] and its Append write new text.
package document

import (
	"encoding/json"
	"errors"
	"fmt"
	"strconv"
	"strings"
	"unicode/utf8"

	"github.com/goccy/go-yaml"
	"github.com/goccy/go-yaml/ast"
	"github.com/goccy/go-yaml/parser"
	"github.com/goccy/go-yaml/token"

	"inkret/core/place"
)

// Kind is what a node of a document is.
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

// Node is one value of a document, with its position and its way up.
type Node struct {
	Kind         Kind
	Text         string // of a scalar, unquoted
	File         string
	Line, Column int
	Pairs        []*Node // of a mapping: the values, each with its Name set
	Items        []*Node // of a list

	Parent  *Node
	Name    *Node // the key under which it stands in a mapping
	Index   int   // its index in a list
	Flow    bool  // a mapping or list in braces or brackets
	Aliased bool  // it stands elsewhere, and is referred to here

	byName map[string]*Node // of a wide mapping: its Pairs
}

// wide is from how many pairs on a mapping finds them by an index.
const wide = 24

// Pos is where n stands.
func (n *Node) Pos() Pos { return Pos{File: n.File, Line: n.Line, Column: n.Column} }

// Describe says what stands at n, for an error.
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

// Get gives the value under name of a mapping, or nil.
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

// add appends a pair whose name is not there yet.
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

// JSON is the scalar as JSON text.
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
	// maxDepth bounds how deep a contract document may nest; a shape that needs
	// more is better named and referred to.
	maxDepth = 200
	// maxNodes bounds a document after its aliases are followed, so that a few
	// lines of aliases cannot grow without end.
	maxNodes = 1_000_000
)

// Report is told of a fault at a node: what was expected there, and what was found.
type Report func(at *Node, expected, found string)

// Parse reads one YAML 1.2 file, JSON included, into nodes. It gives nil where
// the file has none; every fault is reported.
func Parse(file string, data []byte, report Report) *Node {
	whole := &Node{File: file, Line: 1, Column: 1}
	if !utf8.Valid(data) {
		report(whole, "UTF-8 text", "the file is not UTF-8")
		return nil
	}
	doc, err := parser.ParseBytes(data, 0, parser.AllowDuplicateMapKey())
	if err != nil {
		var syntax yaml.Error
		if errors.As(err, &syntax) {
			if tk := syntax.GetToken(); tk != nil && tk.Position != nil {
				whole.Line, whole.Column = tk.Position.Line, tk.Position.Column
			}
			report(whole, "YAML 1.2", syntax.GetMessage())
			return nil
		}
		report(whole, "YAML 1.2", strings.SplitN(err.Error(), "\n", 2)[0])
		return nil
	}
	var bodies []ast.Node
	for _, d := range doc.Docs {
		if d.Body != nil {
			bodies = append(bodies, d.Body)
		}
	}
	if len(bodies) == 0 {
		report(whole, "a mapping", "the file is empty")
		return nil
	}
	c := converter{report: report, file: file, anchors: map[string]ast.Node{}}
	if len(bodies) > 1 {
		second := c.node(bodies[1], nil)
		report(second, "one document a file", "a second document begins here")
	}
	return c.node(bodies[0], nil)
}

// converter turns the parser's tree into nodes and follows aliases.
type converter struct {
	report  Report
	file    string
	aliases int
	anchors map[string]ast.Node
	depth   int
	count   int
	full    bool
}

func (c *converter) node(from ast.Node, parent *Node) *Node {
	n := &Node{File: c.file, Parent: parent, Aliased: c.aliases > 0}
	if tk := from.GetToken(); tk != nil && tk.Position != nil {
		n.Line, n.Column = tk.Position.Line, tk.Position.Column
	}
	c.depth++
	defer func() { c.depth-- }()
	if c.count++; c.depth > maxDepth || c.count > maxNodes {
		if !c.full {
			c.full = true
			c.report(n, fmt.Sprintf("at most %d levels and %d values", maxDepth, maxNodes), "the document is too deep or too large here")
		}
		return n
	}
	switch v := from.(type) {
	case *ast.MappingNode:
		n.Kind, n.Flow = Map, v.IsFlowStyle
		if len(v.Values) > 0 && !v.IsFlowStyle {
			n.at(v.Values[0].Key.GetToken())
		}
		for _, pair := range v.Values { // a merge gives way to every pair of the mapping itself
			if !merges(pair) {
				c.pair(n, pair)
			}
		}
		for _, pair := range v.Values {
			if merges(pair) {
				c.merged(n, pair)
			}
		}
	case *ast.MappingValueNode:
		n.Kind = Map
		n.at(v.Key.GetToken())
		if merges(v) {
			c.merged(n, v)
		} else {
			c.pair(n, v)
		}
	case *ast.SequenceNode:
		n.Kind, n.Flow = List, v.IsFlowStyle
		for i, item := range v.Values {
			child := c.node(item, n)
			child.Index = i
			n.Items = append(n.Items, child)
		}
	case *ast.AnchorNode:
		c.anchors[v.Name.String()] = v.Value
		return c.node(v.Value, parent)
	case *ast.AliasNode:
		name := v.Value.String()
		target := c.anchors[name]
		if target == nil {
			c.report(n, "an anchor defined above", "alias *"+name+" has no anchor")
			return n
		}
		c.aliases++
		defer func() { c.aliases-- }()
		return c.node(target, parent)
	case *ast.TagNode:
		if v.Value != nil {
			return c.node(v.Value, parent)
		}
	case *ast.NullNode:
	case *ast.BoolNode:
		n.Kind, n.Text = Bool, v.GetToken().Value
	case *ast.IntegerNode, *ast.FloatNode, *ast.InfinityNode, *ast.NanNode:
		n.Kind, n.Text = Number, v.GetToken().Value
	case *ast.StringNode:
		n.Kind, n.Text = String, v.Value
	case *ast.LiteralNode:
		n.Kind, n.Text = String, v.Value.Value
	default:
		n.Kind, n.Text = String, from.String()
	}
	return n
}

func (n *Node) at(tk *token.Token) {
	if tk != nil && tk.Position != nil {
		n.Line, n.Column = tk.Position.Line, tk.Position.Column
	}
}

func merges(pair *ast.MappingValueNode) bool {
	_, is := pair.Key.(*ast.MergeKeyNode)
	return is
}

func (c *converter) pair(n *Node, pair *ast.MappingValueNode) {
	key := &Node{File: c.file, Kind: String, Parent: n, Aliased: c.aliases > 0}
	switch k := pair.Key.(type) {
	case *ast.StringNode:
		key.Text = k.Value
	default:
		key.Text = pair.Key.GetToken().Value
	}
	key.at(pair.Key.GetToken())
	key.Name = key
	if old := n.Get(key.Text); old != nil {
		c.report(key, "each name once", fmt.Sprintf("%q is defined twice, first at %s", key.Text, old.Name.Pos()))
		return
	}
	child := c.node(pair.Value, n)
	child.Name = key
	if child.Kind == Null {
		child.Line, child.Column = key.Line, key.Column
	}
	n.add(child)
}

func (c *converter) merged(n *Node, pair *ast.MappingValueNode) {
	c.aliases++
	defer func() { c.aliases-- }()
	c.merge(n, c.node(pair.Value, n))
}

// merge takes over the pairs of a YAML merge key that n does not have itself.
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

// Path is where n stands in its document, as a JSONPath (RFC 9535).
func (n *Node) Path() string {
	if n.Parent == nil {
		return place.Root
	}
	if n.Name == nil {
		return fmt.Sprintf("%s[%d]", n.Parent.Path(), n.Index)
	}
	return n.Parent.Path() + place.Name(n.Name.Text)
}

// Pointer is where n stands in its document, as a JSON Pointer (RFC 6901).
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

// Find gives the node at a JSON Pointer below n, or nil.
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
