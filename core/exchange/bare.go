package exchange

import (
	"bytes"
	"regexp"
	"strings"
	"unicode/utf8"

	"github.com/go-json-experiment/json/jsontext"
)

// JSON in disguise: behind a prefix that prevents execution as a script, or as the argument of a call (JSONP).

var (
	guards  = [][]byte{[]byte(")]}'"), []byte("while(1);"), []byte("for(;;);")}
	callOf  = regexp.MustCompile(`^(?:\s|/\*[\s\S]*?\*/|//[^\n]*\n)*(?:typeof\s+[\w$.]+\s*===?\s*['"]function['"]\s*&&\s*)?[A-Za-z_$][\w$.\[\]'"]*\s*\(`)
	callEnd = regexp.MustCompile(`\)\s*;?(?:\s|/\*[^*]*\*/)*$`)
)

// byContent lists media types under which JSON is recognised by its content.
var byContent = map[string]bool{"": true, "x-unknown": true, "text/plain": true, "text/javascript": true,
	"application/javascript": true, "application/octet-stream": true}

// longestCall limits what precedes the argument of a call.
const longestCall = 1 << 10

// bare returns the range of the JSON in a body, without a prefix or a surrounding call.
func bare(body []byte) (from, to int) {
	to = len(body)
	from = to - len(bytes.TrimLeft(body, " \t\r\n"))
	if from == to || bytes.IndexByte([]byte(`{["-0123456789tfn`), body[from]) >= 0 && !isCall(body[from:]) {
		return 0, to
	}
	for _, guard := range guards {
		if bytes.HasPrefix(body[from:], guard) {
			from += len(guard)
			rest := bytes.TrimLeft(body[from:], ", \t\r\n")
			return to - len(rest), to
		}
	}
	call := callOf.FindIndex(body[:min(to, longestCall)])
	end := callEnd.FindIndex(body[max(0, to-longestCall):])
	if call == nil || end == nil {
		return 0, to
	}
	if last := max(0, to-longestCall) + end[0]; last >= call[1] {
		return call[1], last
	}
	return 0, to
}

// isCall reports whether a word may begin a call: true, false, null and f( begin alike.
func isCall(text []byte) bool {
	return bytes.IndexByte([]byte("tfn"), text[0]) >= 0 && callOf.Match(text[:min(len(text), longestCall)])
}

// holdsJSON reports whether a body of another media type is JSON, and not text that begins like it.
func holdsJSON(body []byte) bool {
	from, to := bare(body)
	text := bytes.TrimSpace(body[from:to])
	return len(text) > 1 && (text[0] == '{' || text[0] == '[') &&
		jsontext.Value(text).IsValid(jsontext.AllowDuplicateNames(true), jsontext.AllowInvalidUTF8(true))
}

// Words is the kind of a body with text for people.
type Words uint8

const (
	NoWords Words = iota // it is data, or nothing that is read
	Page                 // HTML
	Plain
)

// WordsOf returns whether a body is text for people, by its media type and beginning.
func WordsOf(contentType string, body []byte) Words {
	kind, name := mediaOf(contentType)
	switch {
	case kind == isHTML:
		return Page
	case kind != unread || Readable(contentType, body) == nil:
		return NoWords
	case name == "" || name == "x-unknown" || strings.HasPrefix(name, "text/"):
		if utf8.Valid(body[:min(len(body), 512)]) || len(body) > 512 {
			return Plain
		}
	}
	return NoWords
}
