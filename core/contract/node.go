package contract

import (
	"encoding/json"
	"errors"
	"fmt"
	"strings"
	"unicode/utf8"

	"github.com/goccy/go-yaml"
	"github.com/goccy/go-yaml/ast"
	"github.com/goccy/go-yaml/parser"
	"github.com/goccy/go-yaml/token"
)

// kind is what a node of a document is.
type kind uint8

const (
	kindNull kind = iota
	kindBool
	kindNumber
	kindString
	kindMap
	kindList
)

var kindNames = [...]string{"nothing", "a truth value", "a number", "text", "a mapping", "a list"}

// node is one value of a YAML document, with its position and its way up.
type node struct {
	kind         kind
	text         string // of a scalar, unquoted
	file         string
	line, column int
	pairs        []*node // of a mapping: the values, each with its name set
	items        []*node // of a list

	parent *node
	name   *node // the key under which it stands in a mapping
	index  int   // its index in a list
}

func (n *node) pos() Pos { return Pos{File: n.file, Line: n.line, Column: n.column} }

// describe says what stands at n, for an error.
func (n *node) describe() string {
	switch n.kind {
	case kindString, kindNumber, kindBool:
		text := n.text
		if utf8.RuneCountInString(text) > 40 {
			text = string([]rune(text)[:40]) + "…"
		}
		return fmt.Sprintf("%s %q", kindNames[n.kind], text)
	}
	return kindNames[n.kind]
}

// get gives the value under name of a mapping, or nil.
func (n *node) get(name string) *node {
	for _, p := range n.pairs {
		if p.name.text == name {
			return p
		}
	}
	return nil
}

// json is the scalar as JSON text.
func (n *node) json() string {
	switch n.kind {
	case kindNull:
		return "null"
	case kindBool:
		return strings.ToLower(n.text)
	case kindNumber:
		if json.Valid([]byte(n.text)) {
			return n.text
		}
	}
	text, _ := json.Marshal(n.text)
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

// parse reads one YAML file into nodes. A syntax error is reported and gives nil.
func (r *reader) parse(file string, data []byte) *node {
	whole := &node{file: file, line: 1, column: 1}
	if !utf8.Valid(data) {
		r.report(whole, "UTF-8 text", "the file is not UTF-8")
		return nil
	}
	doc, err := parser.ParseBytes(data, 0, parser.AllowDuplicateMapKey())
	if err != nil {
		var syntax yaml.Error
		if errors.As(err, &syntax) {
			if tk := syntax.GetToken(); tk != nil && tk.Position != nil {
				whole.line, whole.column = tk.Position.Line, tk.Position.Column
			}
			r.report(whole, "YAML 1.2", "%s", syntax.GetMessage())
			return nil
		}
		r.report(whole, "YAML 1.2", "%s", strings.SplitN(err.Error(), "\n", 2)[0])
		return nil
	}
	var bodies []ast.Node
	for _, d := range doc.Docs {
		if d.Body != nil {
			bodies = append(bodies, d.Body)
		}
	}
	if len(bodies) == 0 {
		r.report(whole, "a mapping that begins with `inkret: 1`", "the file is empty")
		return nil
	}
	c := converter{reader: r, file: file, anchors: map[string]ast.Node{}}
	if len(bodies) > 1 {
		second := c.node(bodies[1], nil)
		r.report(second, "one document a file", "a second document begins here")
	}
	return c.node(bodies[0], nil)
}

// converter turns the parser's tree into nodes and follows aliases.
type converter struct {
	*reader
	file    string
	anchors map[string]ast.Node
	depth   int
	count   int
	full    bool
}

func (c *converter) node(from ast.Node, parent *node) *node {
	n := &node{file: c.file, parent: parent}
	if tk := from.GetToken(); tk != nil && tk.Position != nil {
		n.line, n.column = tk.Position.Line, tk.Position.Column
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
		n.kind = kindMap
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
				c.merge(n, c.node(pair.Value, n))
			}
		}
	case *ast.MappingValueNode:
		n.kind = kindMap
		n.at(v.Key.GetToken())
		if merges(v) {
			c.merge(n, c.node(v.Value, n))
		} else {
			c.pair(n, v)
		}
	case *ast.SequenceNode:
		n.kind = kindList
		for i, item := range v.Values {
			child := c.node(item, n)
			child.index = i
			n.items = append(n.items, child)
		}
	case *ast.AnchorNode:
		c.anchors[v.Name.String()] = v.Value
		return c.node(v.Value, parent)
	case *ast.AliasNode:
		name := v.Value.String()
		target := c.anchors[name]
		if target == nil {
			c.report(n, "an anchor defined above", "alias *%s has no anchor", name)
			return n
		}
		return c.node(target, parent)
	case *ast.TagNode:
		if v.Value != nil {
			return c.node(v.Value, parent)
		}
	case *ast.NullNode:
	case *ast.BoolNode:
		n.kind, n.text = kindBool, v.GetToken().Value
	case *ast.IntegerNode, *ast.FloatNode, *ast.InfinityNode, *ast.NanNode:
		n.kind, n.text = kindNumber, v.GetToken().Value
	case *ast.StringNode:
		n.kind, n.text = kindString, v.Value
	case *ast.LiteralNode:
		n.kind, n.text = kindString, v.Value.Value
	default:
		n.kind, n.text = kindString, from.String()
	}
	return n
}

func (n *node) at(tk *token.Token) {
	if tk != nil && tk.Position != nil {
		n.line, n.column = tk.Position.Line, tk.Position.Column
	}
}

func merges(pair *ast.MappingValueNode) bool {
	_, is := pair.Key.(*ast.MergeKeyNode)
	return is
}

func (c *converter) pair(n *node, pair *ast.MappingValueNode) {
	key := &node{file: c.file, kind: kindString, parent: n}
	switch k := pair.Key.(type) {
	case *ast.StringNode:
		key.text = k.Value
	default:
		key.text = pair.Key.GetToken().Value
	}
	key.at(pair.Key.GetToken())
	key.name = key
	if old := n.get(key.text); old != nil {
		c.report(key, "each name once", "%q is defined twice, first at %s", key.text, old.name.pos())
		return
	}
	child := c.node(pair.Value, n)
	child.name = key
	if child.kind == kindNull {
		child.line, child.column = key.line, key.column
	}
	n.pairs = append(n.pairs, child)
}

// merge takes over the pairs of a YAML merge key that n does not have itself.
func (c *converter) merge(n, from *node) {
	for _, item := range from.items {
		c.merge(n, item)
	}
	for _, p := range from.pairs {
		if n.get(p.name.text) == nil {
			p.parent = n
			n.pairs = append(n.pairs, p)
		}
	}
}
