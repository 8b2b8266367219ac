package detect

import (
	"bytes"
	"regexp"
)

// revealing lists signs that an error reveals internals of a service (CWE-209): a name, a cheap test that must
// hold, and the expression.
var revealing = []struct {
	name string
	may  func(text []byte) bool
	re   *regexp.Regexp
}{
	{"a stack trace", maybeTrace,
		regexp.MustCompile(`Traceback \(most recent call last\)|File "[^"]+", line \d+|(?m:^\s+at [\w$.<>]+ ?\()|\bat [\w$]+(\.[\w$<>]+)+\([\w.]+:\d+\)|goroutine \d+ \[|\w\.go:\d+|\.php(:| on line )\d+|\.rb:\d+:in |\.(js|ts|mjs):\d+:\d+|\bstack backtrace:|Exception in thread "`)},
	{"query text", maybeQuery, regexp.MustCompile(statement)},
	{"a database driver's message", maybeDriver, regexp.MustCompile(driver)},
	{"an inner path", maybePath,
		regexp.MustCompile(`(?:^|[\s"'(:=])/(?:usr|home|var|opt|srv|etc|root|tmp|mnt)/[\w.@-]+|(?:^|[\s"'(:=])/(?:app|data|src|build)/[\w./@-]*\.\w{1,5}\b|\b[A-Za-z]:\\[\w .-]+\\`)},
	{"an inner host", maybeHost,
		regexp.MustCompile(`\b(?:10|127)(?:\.\d{1,3}){3}\b|\b192\.168(?:\.\d{1,3}){2}\b|\b172\.(?:1[6-9]|2\d|3[01])(?:\.\d{1,3}){2}\b|\blocalhost\b|\b[\w-]+(?:\.[\w-]+)*\.(?:internal|local|lan|intranet|corp)\b`)},
}

// Revealing names what an error text reveals about the internals of the service, or returns the empty string.
func Revealing(text []byte) string {
	for i := range revealing {
		if revealing[i].may(text) && revealing[i].re.Match(text) {
			return revealing[i].name
		}
	}
	return ""
}

func maybeTrace(text []byte) bool {
	return bytes.ContainsAny(text, `(:["`) || bytes.Contains(text, []byte(".php"))
}

// A statement must have the form of one, because words of query languages occur in sentences too. In lower case it
// needs more of that form.
const (
	sqlName = `(?:[\w.]+|"[^"]+"|` + "`[^`]+`" + `|\[[^\]]+\])`
	column  = `(?:\*|` + sqlName + `(?:\.\*)?(?:\s*\([^()]*\))?(?:\s+(?i:as)\s+` + sqlName + `)?)`
	columns = column + `(?:\s*,\s*` + column + `)*`
	// behind the table of a statement that is one in any letters
	goesOn = `(?:\s+(?:as\s+)?\w+)?\s+(?:where\s+(?:not\s+)?\(*` + sqlName +
		`\s*(?:[=<>!]|in\s*\(|like\b|is\s+(?:not\s+)?null|` +
		`between\b)|(?:(?:inner|left|right|full|cross)\s+(?:outer\s+)?)?join\s+` + sqlName + `|order\s+by\s+` +
		sqlName +
		`|group\s+by\s+` + sqlName + `|limit\s+(?:\d|\?|\$|:))`
	statement = `\bSELECT\s+(?:DISTINCT\s+)?` + columns + `\s+FROM\s+` + sqlName +
		`|(?i:\bselect\s+(?:distinct\s+)?` + columns + `\s+from\s+` + sqlName + goesOn + `)` +
		`|(?i:\bselect\s+\*\s+from\s+` + sqlName + `)` +
		`|(?i:\binsert\s+into\s+` + sqlName + `\s*(?:\([^)]*\)\s*)?(?:values|select)\b)` +
		`|\bINSERT INTO\s+` + sqlName + `\s*\(` +
		`|(?i:\bupdate\s+` + sqlName + `\s+set\s+` + sqlName + `\s*=)` +
		`|\bDELETE\s+FROM\s+` + sqlName + `|(?i:\bdelete\s+from\s+` + sqlName + goesOn + `)`
	driver = `SQLSTATE|\bORA-\d{5}\b|(?i:syntax error at or near|you have an error in your SQL syntax|near "[^"]*": syntax error|` +
		`(?:unique|foreign key|check|not null) constraint failed|duplicate key value violates unique constraint|` +
		`violates (?:foreign key|check|not-null) constraint|(?:relation|column|table) "[^"]+"(?: of relation "[^"]+")? does not exist|` +
		`no such (?:table|column): |unknown column '[^']+' in|table '[^']+' doesn't exist|duplicate entry '[^']*' for key|` +
		`E11000 duplicate key|deadlock (?:found when|detected)|invalid object name '|incorrect syntax near)`
)

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
