package contract

import (
	"strconv"
	"strings"

	"inkret/core/document"
)

// Readers of single values. Each reports what is wrong and returns the zero value, so that reading continues with
// the next problem.

// keys checks that n is a mapping with known keys. Keys that begin with x- are ignored.
func (r *reader) keys(n *document.Node, known []string) bool {
	if n.Kind != document.Map {
		r.report(n, "a mapping with "+oneOf(known), "%s stands here", n.Describe())
		return false
	}
	for _, p := range n.Pairs {
		if !contains(known, p.Name.Text) && !strings.HasPrefix(p.Name.Text, "x-") {
			r.unknown(p.Name, "key", p.Name.Text, known)
		}
	}
	return true
}

// mapping returns the pairs of a mapping.
func (r *reader) mapping(n *document.Node) []*document.Node {
	if n.Kind == document.Null {
		return nil
	}
	if n.Kind != document.Map {
		r.report(n, "a mapping of names", "%s stands here", n.Describe())
		return nil
	}
	return n.Pairs
}

func (r *reader) list(n *document.Node) []*document.Node {
	if n.Kind != document.List {
		r.report(n, "a list", "%s stands here", n.Describe())
		return nil
	}
	return n.Items
}

func (r *reader) listOrOne(n *document.Node) []*document.Node {
	if n.Kind == document.List {
		return n.Items
	}
	return []*document.Node{n}
}

func (r *reader) text(n *document.Node) string {
	if n.Kind != document.String || n.Text == "" {
		r.report(n, "text", "%s stands here", n.Describe())
		return ""
	}
	return n.Text
}

// scalar reads a text, number or truth value as text.
func (r *reader) scalar(n *document.Node) string {
	switch n.Kind {
	case document.String, document.Number, document.Bool:
		return n.Text
	}
	r.report(n, "a single value", "%s stands here", n.Describe())
	return ""
}

func (r *reader) scalars(n *document.Node) []string {
	var all []string
	for _, item := range r.listOrOne(n) {
		all = append(all, r.scalar(item))
	}
	return all
}

func (r *reader) texts(n *document.Node) []string {
	var all []string
	for _, item := range r.listOrOne(n) {
		if text := r.text(item); text != "" {
			all = append(all, text)
		}
	}
	return all
}

func (r *reader) required(n *document.Node, key string) string {
	v := n.Get(key)
	if v == nil {
		r.report(n, "`"+key+":`", "the key %q is missing", key)
		return ""
	}
	return r.text(v)
}

func (r *reader) truth(n *document.Node) bool {
	if n == nil {
		return false
	}
	if n.Kind != document.Bool {
		r.report(n, "true or false", "%s stands here", n.Describe())
	}
	return strings.EqualFold(n.Text, "true")
}

func (r *reader) count(n *document.Node) int {
	i, err := strconv.Atoi(n.Text)
	if n.Kind != document.Number || err != nil || i < 1 {
		r.report(n, "a whole number above 0", "%s stands here", n.Describe())
		return 0
	}
	return i
}

func (r *reader) choice(n *document.Node, known ...string) string {
	if n.Kind != document.String && n.Kind != document.Null || !contains(known, n.Text) {
		if n.Kind == document.String {
			r.unknown(n, "word", n.Text, known)
		} else {
			r.report(n, oneOf(known), "%s stands here", n.Describe())
		}
		return ""
	}
	return n.Text
}
