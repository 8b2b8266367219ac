package detect

import "bytes"

// Stack traces, inner paths and inner hosts in the text of errors.

// set is a set of bytes.
type set [256]bool

func setOf(signs string) *set {
	s := new(set)
	for i := range s {
		s[i] = letterOrDigit(byte(i)) || i == '_'
	}
	for i := range len(signs) {
		s[signs[i]] = true
	}
	return s
}

var (
	wordSet     = setOf("")
	callSet     = setOf("$.<>")
	partSet     = setOf("$")
	memberSet   = setOf("$<>")
	dottedSet   = setOf(".")
	fileSet     = setOf(".@-")
	pathSet     = setOf("./@-")
	folderSet   = setOf(" .-")
	labelSet    = setOf("-")
	traceMarks  = [][]byte{[]byte("Traceback (most recent call last)"), []byte("Exception in thread \"")}
	traceFile   = []byte("File \"")
	innerTop    = []string{"usr", "home", "var", "opt", "srv", "etc", "root", "tmp", "mnt"}
	innerWork   = []string{"app", "data", "src", "build"}
	innerEnding = []string{"internal", "local", "lan", "intranet", "corp"}
)

// run returns the end of the bytes of s from one on.
func (s *set) run(v []byte, from int) int {
	for from < len(v) && s[v[from]] {
		from++
	}
	return from
}

// begins reports whether a word can begin at a byte: none goes on there.
func begins(v []byte, at int) bool { return at == 0 || !wordSet[v[at-1]] }

// has reports whether a text goes on with another at a byte.
func has(v []byte, at int, text string) bool {
	return at+len(text) <= len(v) && string(v[at:at+len(text)]) == text
}

// each calls f with the places of a text until it reports true, and reports whether it did.
func each(v []byte, text string, f func(at int) bool) bool {
	for from := 0; ; {
		i := bytes.Index(v[from:], []byte(text))
		if i < 0 {
			return false
		}
		if f(from + i) {
			return true
		}
		from += i + 1
	}
}

// hasTrace looks for a stack trace as runtimes of common languages print it.
func hasTrace(v []byte) bool {
	for _, mark := range traceMarks {
		if bytes.Contains(v, mark) {
			return true
		}
	}
	digits := func(at int) int { return figures.run(v, at) }
	numbered := func(at int) bool { return digits(at) > at }
	return each(v, string(traceFile), func(at int) bool {
		from := at + len(traceFile)
		end := bytes.IndexByte(v[from:], '"')
		return end > 0 && has(v, from+end, `", line `) && numbered(from+end+len(`", line `))
	}) || each(v, "at ", func(at int) bool { return lineOfTrace(v, at) }) ||
		each(v, "goroutine ", func(at int) bool {
			from := at + len("goroutine ")
			return numbered(from) && has(v, digits(from), " [")
		}) ||
		each(v, ".go:", func(at int) bool { return at > 0 && wordSet[v[at-1]] && numbered(at+len(".go:")) }) ||
		each(v, ".php", func(at int) bool {
			at += len(".php")
			return has(v, at, ":") && numbered(at+1) || has(v, at, " on line ") && numbered(at+len(" on line "))
		}) ||
		each(v, ".rb:", func(at int) bool {
			from := at + len(".rb:")
			return numbered(from) && has(v, digits(from), ":in ")
		}) || each(v, "s:", func(at int) bool {
		end := at + 1
		script := at >= 2 && (has(v, at-2, ".js") || has(v, at-2, ".ts")) || at >= 3 && has(v, at-3, ".mjs")
		return script && numbered(end+1) && has(v, digits(end+1), ":") && numbered(digits(end+1)+1)
	}) || each(v, "stack backtrace:", func(at int) bool { return begins(v, at) })
}

// lineOfTrace reports whether "at " at a byte begins a line of a trace: "    at a.b (", or "at a.b(File.java:1)".
func lineOfTrace(v []byte, at int) bool {
	from := at + len("at ")
	if onlySpaceBefore(v, at) {
		end := callSet.run(v, from)
		if end > from && (has(v, end, "(") || has(v, end, " (")) {
			return true
		}
	}
	if !begins(v, at) {
		return false
	}
	end := partSet.run(v, from)
	parts := 0
	for end > from && end < len(v) && v[end] == '.' {
		next := memberSet.run(v, end+1)
		if next == end+1 {
			break
		}
		end = next
		parts++
	}
	if parts == 0 || end >= len(v) || v[end] != '(' {
		return false
	}
	file := dottedSet.run(v, end+1)
	line := figures.run(v, file+1)
	return file > end+1 && has(v, file, ":") && line > file+1 && has(v, line, ")")
}

// onlySpaceBefore reports whether white space, and nothing else, is between a byte and where a line before it begins.
func onlySpaceBefore(v []byte, at int) bool {
	i := at
	for i > 0 && bytes.IndexByte([]byte(" \t\n\f\r"), v[i-1]) >= 0 {
		if i--; i < at && v[i] == '\n' && i+1 < at {
			return true
		}
	}
	return i == 0 && at > 0
}

// hasPath looks for a path on the server's disk.
func hasPath(v []byte) bool {
	for i, c := range v {
		switch {
		case c == '/' && (i == 0 || bytes.IndexByte([]byte(" \t\n\f\r\"'(:="), v[i-1]) >= 0):
			end := wordSet.run(v, i+1)
			top := string(v[i+1 : end])
			if !has(v, end, "/") {
				continue
			}
			if among(top, innerTop) && fileSet.run(v, end+1) > end+1 {
				return true
			}
			if among(top, innerWork) && endsInFile(v[end+1:pathSet.run(v, end+1)]) {
				return true
			}
		case c == ':' && i > 0 && has(v, i+1, `\`) && v[i-1]|0x20 >= 'a' && v[i-1]|0x20 <= 'z' && begins(v, i-1):
			if end := folderSet.run(v, i+2); end > i+2 && has(v, end, `\`) {
				return true
			}
		}
	}
	return false
}

// endsInFile reports whether a path has a name with an ending of one to five letters.
func endsInFile(path []byte) bool {
	return each(path, ".", func(at int) bool {
		n := wordSet.run(path, at+1) - at - 1
		return n >= 1 && n <= 5
	})
}

func among(word string, list []string) bool {
	for _, s := range list {
		if s == word {
			return true
		}
	}
	return false
}

// hasHost looks for a private address or the name of a host that nobody outside can reach.
func hasHost(v []byte) bool {
	for i, c := range v {
		switch {
		case c == '1' && begins(v, i):
			for _, private := range []string{"10", "127", "192.168", "172"} {
				if has(v, i, private) && privateFrom(v, i+len(private), private) {
					return true
				}
			}
		case c == 'l' && has(v, i, "localhost") && begins(v, i) && ends(v[i+len("localhost"):]):
			return true
		case c == '.' && i > 0 && labelSet[v[i-1]]:
			end := wordSet.run(v, i+1)
			if among(string(v[i+1:end]), innerEnding) && labelled(v[:i]) {
				return true
			}
		}
	}
	return false
}

// privateFrom reports whether the rest of a private address follows its beginning.
func privateFrom(v []byte, at int, begun string) bool {
	groups := map[string]int{"10": 3, "127": 3, "192.168": 2, "172": 3}[begun]
	for g := range groups {
		if !has(v, at, ".") {
			return false
		}
		end := figures.run(v, at+1)
		n := end - at - 1
		if n < 1 || n > 3 {
			return false
		}
		if begun == "172" && g == 0 {
			if second := string(v[at+1 : end]); len(second) != 2 || second < "16" || second > "31" {
				return false
			}
		}
		at = end
	}
	return ends(v[at:])
}

// labelled reports whether a text ends in a label of a host, which has a letter or digit.
func labelled(v []byte) bool {
	for i := len(v) - 1; i >= 0 && labelSet[v[i]]; i-- {
		if wordSet[v[i]] {
			return true
		}
	}
	return false
}
