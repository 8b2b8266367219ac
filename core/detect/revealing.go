package detect

import "bytes"

// revealing lists signs that an error reveals internals of a service (CWE-209): a name, a cheap test that must
// hold, and the search.
var revealing = []struct {
	name string
	may  func(text []byte) bool
	is   func(text []byte) bool
}{
	{"a stack trace", maybeTrace, hasTrace},
	{"query text", maybeQuery, hasStatement},
	{"a database driver's message", maybeDriver, hasDriver},
	{"an inner path", maybePath, hasPath},
	{"an inner host", maybeHost, hasHost},
}

// Revealing names what an error text reveals about the internals of the service, or returns the empty string.
func Revealing(text []byte) string {
	for i := range revealing {
		if revealing[i].may(text) && revealing[i].is(text) {
			return revealing[i].name
		}
	}
	return ""
}

func maybeTrace(text []byte) bool {
	return bytes.ContainsAny(text, `(:["`) || bytes.Contains(text, []byte(".php"))
}

// maybeQuery looks for the first word of a statement in any case.
func maybeQuery(text []byte) bool {
	for _, word := range []string{"select", "insert", "update", "delete"} {
		if folded(text, word) {
			return true
		}
	}
	return false
}

func maybeDriver(text []byte) bool {
	for _, word := range []string{"sql", "ora-", "syntax", "constraint", "exist", "no such", "column", "duplicate",
		"deadlock",
		"object name"} {
		if folded(text, word) {
			return true
		}
	}
	return false
}

// folded reports whether a text contains an ASCII word in any case.
func folded(text []byte, word string) bool {
	first := word[0]
	for i := 0; i+len(word) <= len(text); i++ {
		if text[i]|0x20 == first && bytes.EqualFold(text[i:i+len(word)], []byte(word)) {
			return true
		}
	}
	return false
}

func maybePath(text []byte) bool { return bytes.ContainsAny(text, `/\`) }

func maybeHost(text []byte) bool {
	return bytes.IndexByte(text, '.') >= 0 || bytes.Contains(text, []byte("localhost"))
}
