package contract

import (
	"strconv"
	"strings"
)

// The readers of single values. Each reports what does not fit and gives the
// zero value then, so that reading goes on to the next problem.

// keys checks that n is a mapping of known keys; those beginning with x- are
// kept and ignored.
func (r *reader) keys(n *node, known []string) bool {
	if n.kind != kindMap {
		r.report(n, "a mapping with "+oneOf(known), "%s stands here", n.describe())
		return false
	}
	for _, p := range n.pairs {
		if !contains(known, p.name.text) && !strings.HasPrefix(p.name.text, "x-") {
			r.unknown(p.name, "key", p.name.text, known)
		}
	}
	return true
}

// mapping gives the pairs of a mapping of names.
func (r *reader) mapping(n *node) []*node {
	if n.kind == kindNull {
		return nil
	}
	if n.kind != kindMap {
		r.report(n, "a mapping of names", "%s stands here", n.describe())
		return nil
	}
	return n.pairs
}

func (r *reader) list(n *node) []*node {
	if n.kind != kindList {
		r.report(n, "a list", "%s stands here", n.describe())
		return nil
	}
	return n.items
}

func (r *reader) listOrOne(n *node) []*node {
	if n.kind == kindList {
		return n.items
	}
	return []*node{n}
}

func (r *reader) text(n *node) string {
	if n.kind != kindString || n.text == "" {
		r.report(n, "text", "%s stands here", n.describe())
		return ""
	}
	return n.text
}

// scalar is text, or the text of a number or truth value.
func (r *reader) scalar(n *node) string {
	switch n.kind {
	case kindString, kindNumber, kindBool:
		return n.text
	}
	r.report(n, "a single value", "%s stands here", n.describe())
	return ""
}

func (r *reader) scalars(n *node) []string {
	var all []string
	for _, item := range r.listOrOne(n) {
		all = append(all, r.scalar(item))
	}
	return all
}

func (r *reader) texts(n *node) []string {
	var all []string
	for _, item := range r.listOrOne(n) {
		if text := r.text(item); text != "" {
			all = append(all, text)
		}
	}
	return all
}

func (r *reader) required(n *node, key string) string {
	v := n.get(key)
	if v == nil {
		r.report(n, "`"+key+":`", "the key %q is missing", key)
		return ""
	}
	return r.text(v)
}

func (r *reader) truth(n *node) bool {
	if n == nil {
		return false
	}
	if n.kind != kindBool {
		r.report(n, "true or false", "%s stands here", n.describe())
	}
	return strings.EqualFold(n.text, "true")
}

func (r *reader) count(n *node) int {
	i, err := strconv.Atoi(n.text)
	if n.kind != kindNumber || err != nil || i < 1 {
		r.report(n, "a whole number above 0", "%s stands here", n.describe())
		return 0
	}
	return i
}

func (r *reader) choice(n *node, known ...string) string {
	if n.kind != kindString && n.kind != kindNull || !contains(known, n.text) {
		if n.kind == kindString {
			r.unknown(n, "word", n.text, known)
		} else {
			r.report(n, oneOf(known), "%s stands here", n.describe())
		}
		return ""
	}
	return n.text
}
