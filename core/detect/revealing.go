package detect

import (
	"bytes"
	"regexp"
)

// revealing are the signs that an error tells of the inside of a service
// (CWE-209): each with what it is called, and whether a text holds what the expression cannot do without.
var revealing = []struct {
	name string
	may  func(text []byte) bool
	re   *regexp.Regexp
}{
	{"a stack trace", maybeTrace,
		regexp.MustCompile(`Traceback \(most recent call last\)|File "[^"]+", line \d+|(?m:^\s+at [\w$.<>]+ ?\()|\bat [\w$]+(\.[\w$<>]+)+\([\w.]+:\d+\)|goroutine \d+ \[|\w\.go:\d+|\.php(:| on line )\d+|\.rb:\d+:in |\.(js|ts|mjs):\d+:\d+|\bstack backtrace:|Exception in thread "`)},
	{"query text", maybeQuery,
		regexp.MustCompile(`\bSELECT\b[\s\S]+?\bFROM\b|\bINSERT INTO\b|\bUPDATE\b[\s\S]+?\bSET\b|\bDELETE FROM\b|(?i:\bselect\b[^.]+?\bfrom\b[^.]+?\bwhere\b)|SQLSTATE|\bORA-\d{5}\b|syntax error at or near`)},
	{"an inner path", maybePath,
		regexp.MustCompile(`(?:^|[\s"'(:=])/(?:usr|home|var|opt|srv|etc|root|tmp|mnt)/[\w.@-]+|(?:^|[\s"'(:=])/(?:app|data|src|build)/[\w./@-]*\.\w{1,5}\b|\b[A-Za-z]:\\[\w .-]+\\`)},
	{"an inner host", maybeHost,
		regexp.MustCompile(`\b(?:10|127)(?:\.\d{1,3}){3}\b|\b192\.168(?:\.\d{1,3}){2}\b|\b172\.(?:1[6-9]|2\d|3[01])(?:\.\d{1,3}){2}\b|\blocalhost\b|\b[\w-]+(?:\.[\w-]+)*\.(?:internal|local|lan|intranet|corp)\b`)},
}

// Revealing names what a text of an error response reveals of the inside of the
// service, or gives the empty string.
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

func maybeQuery(text []byte) bool {
	for _, word := range queryWords {
		if bytes.Contains(text, word) {
			return true
		}
	}
	return len(text) >= len("select a from b where") && bytes.Contains(bytes.ToLower(text), []byte("where"))
}

var queryWords = [][]byte{[]byte("SELECT"), []byte("INSERT INTO"), []byte("UPDATE"), []byte("DELETE FROM"),
	[]byte("SQLSTATE"), []byte("ORA-"), []byte("syntax error")}

func maybePath(text []byte) bool { return bytes.ContainsAny(text, `/\`) }

func maybeHost(text []byte) bool {
	return bytes.IndexByte(text, '.') >= 0 || bytes.Contains(text, []byte("localhost"))
}
