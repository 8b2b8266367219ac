package exchange

import (
	"bytes"
	"net/url"
	"strings"

	"github.com/go-json-experiment/json/jsontext"
)

// Outline returns what may be kept of a body: its JSON with every value replaced by a stand-in of its type and
// length. Names, structure and weights remain. standIn replaces strings, given the name of the member they are
// the value of, or nil; and names for which isData is true. JSON inside strings is outlined too. The result is
// nil for bodies that are not JSON.
func Outline(contentType string, body []byte, isData func(name []byte) bool, standIn StandIn) []byte {
	if kind, _ := mediaOf(contentType); kind != isJSON && !(kind == unread && looksLikeJSON(body)) {
		return nil
	}
	return outline(body, isData, standIn, outlinedWithin)
}

// StandIn replaces a string that is the value of a member or stands in its list, or a name if member is nil.
type StandIn func(member, value []byte) []byte

// outlinedWithin is how deep JSON inside strings is outlined.
const outlinedWithin = 4

func outline(body []byte, isData func([]byte) bool, standIn StandIn, within int) []byte {
	out := bytes.Clone(body)
	var member []byte // the name before the value being read
	d := jsontext.NewDecoder(bytes.NewBuffer(body), jsontext.AllowDuplicateNames(true), jsontext.AllowInvalidUTF8(true))
	for {
		t, err := d.ReadToken()
		if err != nil {
			// the rest is cut off and may not be harmless
			if end := int(d.InputOffset()); len(bytes.TrimSpace(out[end:])) > 0 {
				out = out[:end]
			}
			return out
		}
		end := int(d.InputOffset())
		kind, nth := d.StackIndex(d.StackDepth())
		name := kind == '{' && nth%2 == 1
		switch t.Kind() {
		case '"':
			value := []byte(t.String())
			if name {
				if member = value; !isData(value) {
					continue
				}
			}
			of := member
			if name {
				of = nil
			}
			start := stringStart(body, end)
			if !put(out[start:end-1], outlined(of, value, isData, standIn, within)) {
				for i := start; i < end-1; i++ {
					out[i] = 'x'
				}
			}
		case '0':
			first := end
			for first > 0 && numeric(body[first-1]) {
				first--
			}
			outlineNumber(out[first:end])
		case 'f':
			copy(out[end-len("false"):end], "true ")
		}
	}
}

// outlined returns the stand-in of a string, or the outline if it is JSON.
func outlined(member, value []byte, isData func([]byte) bool, standIn StandIn, within int) []byte {
	if within > 0 && looksLikeJSON(value) && jsontext.Value(value).IsValid(jsontext.AllowDuplicateNames(true),
		jsontext.AllowInvalidUTF8(true)) {
		return outline(value, isData, standIn, within-1)
	}
	return standIn(member, value)
}

// put replaces one string by another of the same length.
func put(place, value []byte) bool {
	quoted, err := jsontext.AppendQuote(nil, value)
	if err != nil || len(quoted)-2 != len(place) {
		return false
	}
	copy(place, quoted[1:])
	return true
}

// outlineNumber replaces a number's digits; a whole number stays whole.
func outlineNumber(text []byte) {
	whole := true
	if point := bytes.IndexByte(text, '.'); point >= 0 {
		for _, c := range text[point+1:] {
			if c == 'e' || c == 'E' {
				break
			}
			whole = whole && c == '0'
		}
	}
	for i, c := range text {
		if c >= '0' && c <= '9' && (c != '0' || !whole || i == 0) {
			text[i] = '1'
		}
	}
	if bytes.ContainsAny(text, "eE") { // an exponent tells of the value what its digits do
		for i := range text {
			if text[i] != '.' {
				text[i] = '1'
			}
		}
	}
}

func numeric(c byte) bool {
	return c >= '0' && c <= '9' || c == '-' || c == '+' || c == '.' || c == 'e' || c == 'E'
}

// stringStart returns the first byte inside the string whose closing quote is the last byte before end.
func stringStart(body []byte, end int) int {
	for i := end - 2; i >= 0; i-- {
		if body[i] != '"' {
			continue
		}
		escapes := 0
		for k := i - 1; k >= 0 && body[k] == '\\'; k-- {
			escapes++
		}
		if escapes%2 == 0 {
			return i + 1
		}
	}
	return 0
}

// OutlineAddress outlines an address: query values, path segments for which isData is true, and the password are
// replaced by standIn. Values for which keep is true stay, such as those that select a response.
func OutlineAddress(u *url.URL, isData func([]byte) bool, standIn func([]byte) []byte,
	keep func(name, value string) bool) *url.URL {
	out := *u
	out.Fragment, out.RawFragment, out.User = "", "", nil
	if u.User != nil {
		if password, ok := u.User.Password(); ok {
			out.User = url.UserPassword("", string(standIn([]byte(password))))
		}
	}
	segments := strings.Split(u.EscapedPath(), "/")
	for i, segment := range segments {
		word, parameters, more := strings.Cut(segment, ";")
		if plain := unescapedPath(word); isData([]byte(plain)) {
			word = url.PathEscape(string(standIn([]byte(plain))))
		}
		if more {
			word += ";" + outlinePairs(strings.Split(parameters, ";"), ";", unescapedPath, isData, standIn, keep)
		}
		segments[i] = word
	}
	path := strings.Join(segments, "/")
	if plain, err := url.PathUnescape(path); err == nil {
		out.Path, out.RawPath = plain, path
	}
	if u.RawQuery != "" {
		out.RawQuery = outlinePairs(strings.Split(u.RawQuery, "&"), "&", unescapedQuery, isData, standIn, keep)
	}
	return &out
}

func outlinePairs(pairs []string, between string, unescaped func(string) string, isData func([]byte) bool,
	standIn func([]byte) []byte, keep func(name, value string) bool) string {
	for i, pair := range pairs {
		name, value, valued := strings.Cut(pair, "=")
		plain := unescaped(name)
		if isData([]byte(plain)) {
			name = url.QueryEscape(string(standIn([]byte(plain))))
		}
		if valued {
			if v := unescaped(value); v != "" && !keep(plain, v) {
				value = url.QueryEscape(string(standIn([]byte(v))))
			}
			name += "=" + value
		}
		pairs[i] = name
	}
	return strings.Join(pairs, between)
}
