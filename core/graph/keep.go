package graph

import (
	"bytes"
	"encoding/json"
	"net/url"

	"github.com/vektah/gqlparser/v2/ast"
	"github.com/vektah/gqlparser/v2/formatter"
	"github.com/vektah/gqlparser/v2/parser"
)

// Asks reports whether a request asks for something in GraphQL, whatever may answer it.
func Asks(method string, u *url.URL, contentType string, body []byte) bool {
	if u == nil || len(body) == 0 && !u.Query().Has("query") {
		return false
	}
	_, _, err := Ask(nil, method, u, contentType, body)
	return err == nil
}

// Same returns what tells two calls of one address apart: what they ask for, with its values. It is nil for a request
// that asks for nothing.
func Same(method string, u *url.URL, contentType string, body []byte) []byte {
	if method == "GET" || !Asks(method, u, contentType, body) { // the address of a GET says it
		return nil
	}
	var compact bytes.Buffer
	if json.Compact(&compact, body) == nil {
		return compact.Bytes()
	}
	return bytes.TrimSpace(body)
}

// Outline returns what may be kept of what a request asks for, as the JSON of a request: its queries without values
// and without variables. It is nil where nothing is known of it.
func Outline(method string, u *url.URL, contentType string, body []byte) []byte {
	if !Asks(method, u, contentType, body) {
		return nil
	}
	requests, list, err := requested(method, u, contentType, body)
	if err != nil {
		return nil
	}
	for i, r := range requests {
		text, ok := withoutValues(r.Query)
		if !ok {
			return nil
		}
		requests[i].Query = text
	}
	var out []byte
	if list {
		out, err = json.Marshal(requests)
	} else {
		out, err = json.Marshal(requests[0])
	}
	if err != nil {
		return nil
	}
	return out
}

// withoutValues writes a query without the values in it.
func withoutValues(query string) (string, bool) {
	doc, err := parser.ParseQueryWithTokenLimit(&ast.Source{Input: query}, mostQueryTokens)
	if err != nil {
		return "", false
	}
	for _, op := range doc.Operations {
		op.Directives = onlyConditions(op.Directives)
		for _, v := range op.VariableDefinitions {
			v.DefaultValue, v.Directives = nil, nil
		}
		blank(op.SelectionSet)
	}
	for _, f := range doc.Fragments {
		f.Directives = nil
		blank(f.SelectionSet)
	}
	var out bytes.Buffer
	formatter.NewFormatter(&out, formatter.WithIndent(" ")).FormatQueryDocument(doc)
	return out.String(), true
}

func blank(set ast.SelectionSet) {
	for _, one := range set {
		switch one := one.(type) {
		case *ast.Field:
			one.Arguments, one.Directives = nil, onlyConditions(one.Directives)
			blank(one.SelectionSet)
		case *ast.InlineFragment:
			one.Directives = onlyConditions(one.Directives)
			blank(one.SelectionSet)
		case *ast.FragmentSpread:
			one.Directives = onlyConditions(one.Directives)
		}
	}
}

// onlyConditions keeps the directives that may leave something out, without what they depend on.
func onlyConditions(all ast.DirectiveList) (kept ast.DirectiveList) {
	for _, d := range all {
		if conditional(ast.DirectiveList{d}) {
			kept = append(kept, &ast.Directive{Name: d.Name})
		}
	}
	return kept
}

// Keys lists the names that a request gives to the members of its result. They are no values.
func Keys(method string, u *url.URL, contentType string, body []byte) map[string]bool {
	keys := map[string]bool{}
	requests, _, err := requested(method, u, contentType, body)
	if err != nil {
		return keys
	}
	var walk func(set ast.SelectionSet)
	walk = func(set ast.SelectionSet) {
		for _, one := range set {
			switch one := one.(type) {
			case *ast.Field:
				if keys[one.Name] = true; one.Alias != "" {
					keys[one.Alias] = true
				}
				walk(one.SelectionSet)
			case *ast.InlineFragment:
				walk(one.SelectionSet)
			}
		}
	}
	for _, r := range requests {
		doc, err := parser.ParseQueryWithTokenLimit(&ast.Source{Input: r.Query}, mostQueryTokens)
		if err != nil {
			continue
		}
		for _, op := range doc.Operations {
			walk(op.SelectionSet)
		}
		for _, f := range doc.Fragments {
			walk(f.SelectionSet)
		}
	}
	return keys
}
