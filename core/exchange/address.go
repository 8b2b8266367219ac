package exchange

import (
	"net/url"
	"strings"
)

// Places in an address.
const (
	InQuery    = "query"
	InPath     = "path"
	InUserinfo = "userinfo"
)

// AddressValue is a value in an address, decoded.
type AddressValue struct {
	In      string // [InQuery], [InPath] or [InUserinfo]
	Name    string // of the parameter; empty for a segment of the path, which has none
	Value   string
	Segment int // of the path, from 0; -1 elsewhere
}

// AddressValues lists the values in a request's address: user information, path segments with their parameters
// after semicolons (RFC 3986 section 3.3), and query parameters. What cannot be decoded is returned as it is.
func AddressValues(u *url.URL) []AddressValue {
	var all []AddressValue
	if u.User != nil {
		if password, ok := u.User.Password(); ok {
			all = append(all, AddressValue{InUserinfo, "password", password, -1})
		}
	}
	for i, segment := range strings.Split(strings.TrimPrefix(u.EscapedPath(), "/"), "/") {
		segment, parameters, _ := strings.Cut(segment, ";")
		all = append(all, AddressValue{InPath, "", unescapedPath(segment), i})
		for _, pair := range strings.Split(parameters, ";") {
			if name, value, ok := strings.Cut(pair, "="); ok {
				all = append(all, AddressValue{InPath, unescapedPath(name), unescapedPath(value), i})
			}
		}
	}
	for _, pair := range strings.FieldsFunc(u.RawQuery, func(r rune) bool { return r == '&' }) {
		name, value, _ := strings.Cut(pair, "=")
		all = append(all, AddressValue{InQuery, unescapedQuery(name), unescapedQuery(value), -1})
	}
	return all
}

func unescapedPath(text string) string {
	if plain, err := url.PathUnescape(text); err == nil {
		return plain
	}
	return text
}

func unescapedQuery(text string) string {
	if plain, err := url.QueryUnescape(text); err == nil {
		return plain
	}
	return text
}
