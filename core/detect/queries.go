package detect

import "bytes"

// Query text and the messages of database drivers in the text of errors. A statement must have the form of one, because
// words of query languages occur in sentences too; in small letters it needs more of that form.

// reader reads words and names of a statement from a byte on. Its methods return where they end, or -1.
type reader struct {
	v    []byte
	fold bool // in any letters
}

func (r reader) space(at int) int {
	if at < 0 {
		return -1
	}
	for at < len(r.v) && bytes.IndexByte([]byte(" \t\n\f\r"), r.v[at]) >= 0 {
		at++
	}
	return at
}

// spaces is space of at least one byte.
func (r reader) spaces(at int) int {
	if end := r.space(at); end > at {
		return end
	}
	return -1
}

// word reads a word, whatever follows it.
func (r reader) word(at int, word string) int {
	end := at + len(word)
	if at < 0 || end > len(r.v) {
		return -1
	}
	if text := r.v[at:end]; string(text) == word || r.fold && bytes.EqualFold(text, []byte(word)) {
		return end
	}
	return -1
}

// whole is word, where nothing goes on with it.
func (r reader) whole(at int, word string) int {
	if end := r.word(at, word); end >= 0 && ends(r.v[end:]) {
		return end
	}
	return -1
}

// words reads words with white space between them.
func (r reader) words(at int, words ...string) int {
	for i, w := range words {
		if i > 0 {
			at = r.spaces(at)
		}
		at = r.word(at, w)
	}
	return at
}

// quotes are how names are written that are not plain.
var quotes = map[byte]byte{'"': '"', '`': '`', '[': ']'}

// longestName limits names and lists in brackets that are looked for, so that texts full of their beginnings take no
// longer than others.
const longestName = 4096

// name reads the name of a table or column.
func (r reader) name(at int) int {
	if at < 0 || at >= len(r.v) {
		return -1
	}
	if closing := quotes[r.v[at]]; closing != 0 {
		if n := bytes.IndexByte(r.v[at+1:min(len(r.v), at+longestName)], closing); n > 0 {
			return at + n + 2
		}
		return -1
	}
	if end := dottedSet.run(r.v, at); end > at {
		return end
	}
	return -1
}

// column reads an entry of a list of columns. alias says that another name may follow it.
func (r reader) column(at int, alias bool) int {
	if end := r.word(at, "*"); end >= 0 {
		return end
	}
	end := r.name(at)
	if end < 0 {
		return -1
	}
	if has(r.v, end, "*") && r.v[end-1] == '.' && end-1 > at { // all of a table
		end++
	} else if has(r.v, end, ".*") {
		end += 2
	}
	if open := r.space(end); has(r.v, open, "(") {
		if n := bytes.IndexAny(r.v[open+1:min(len(r.v), open+longestName)], "()"); n >= 0 && r.v[open+1+n] == ')' {
			end = open + n + 2
		}
	}
	if as := (reader{r.v, true}).word(r.spaces(end), "as"); alias && as >= 0 {
		if named := r.name(r.spaces(as)); named >= 0 {
			return named
		}
	}
	return end
}

// from reads columns and the table that they are from.
func (r reader) from(at int) int {
	for at >= 0 {
		next := -1
		for _, alias := range []bool{true, false} {
			end := r.column(at, alias)
			if table := r.name(r.spaces(r.word(r.spaces(end), "FROM"))); end >= 0 && table >= 0 {
				return table
			}
			if comma := r.space(end); end >= 0 && next < 0 && has(r.v, comma, ",") {
				next = r.space(comma + 1)
			}
		}
		at = next
	}
	return -1
}

// goesOn reports whether what follows a table is the rest of a statement.
func (r reader) goesOn(at int) bool {
	if at < 0 {
		return false
	}
	if r.clause(r.spaces(at)) {
		return true
	}
	start := r.spaces(at)
	if as := r.spaces(r.word(start, "as")); as >= 0 {
		if end := wordSet.run(r.v, as); end > as && r.clause(r.spaces(end)) {
			return true
		}
	}
	end := -1
	if start >= 0 {
		end = wordSet.run(r.v, start)
	}
	return end > start && r.clause(r.spaces(end))
}

// clause reports whether a clause of a statement begins at a byte.
func (r reader) clause(at int) bool {
	if at < 0 {
		return false
	}
	if where := r.spaces(r.word(at, "where")); where >= 0 {
		for _, start := range []int{where, r.spaces(r.word(where, "not"))} {
			if start >= 0 && r.condition(start) {
				return true
			}
		}
	}
	join := at
	for _, side := range []string{"inner", "left", "right", "full", "cross"} {
		if end := r.spaces(r.word(at, side)); end >= 0 {
			if join = end; r.spaces(r.word(end, "outer")) >= 0 {
				join = r.spaces(r.word(end, "outer"))
			}
		}
	}
	if r.name(r.spaces(r.word(join, "join"))) >= 0 || r.name(r.spaces(r.words(at, "order", "by"))) >= 0 ||
		r.name(r.spaces(r.words(at, "group", "by"))) >= 0 {
		return true
	}
	limit := r.spaces(r.word(at, "limit"))
	return limit >= 0 && limit < len(r.v) && (digit(r.v[limit]) || bytes.IndexByte([]byte("?$:"), r.v[limit]) >= 0)
}

// condition reports whether a comparison begins at a byte, in brackets or not.
func (r reader) condition(at int) bool {
	for at < len(r.v) && r.v[at] == '(' {
		at++
	}
	end := r.name(at)
	if end < 0 {
		return false
	}
	is := r.space(end)
	if is < len(r.v) && bytes.IndexByte([]byte("=<>!"), r.v[is]) >= 0 {
		return true
	}
	in := r.space(r.word(is, "in"))
	null := r.spaces(r.word(is, "is"))
	return in >= 0 && has(r.v, in, "(") || r.whole(is, "like") >= 0 || r.whole(is, "between") >= 0 ||
		r.word(null, "null") >= 0 || r.word(r.spaces(r.word(null, "not")), "null") >= 0
}

// hasStatement looks for a statement of SQL (ISO/IEC 9075-2).
func hasStatement(v []byte) bool {
	any, exact := reader{v, true}, reader{v, false}
	for i, c := range v {
		if !begins(v, i) {
			continue
		}
		switch c | 0x20 {
		case 's':
			if selects(any, i) {
				return true
			}
		case 'i':
			table := any.name(any.spaces(any.words(i, "insert", "into")))
			if rest := any.space(table); table >= 0 {
				if has(v, rest, "(") {
					if n := bytes.IndexByte(v[rest:min(len(v), rest+longestName)], ')'); n > 0 {
						if after := any.space(rest + n + 1); any.whole(after, "values") >= 0 ||
							any.whole(after, "select") >= 0 {
							return true
						}
					}
				}
				if any.whole(rest, "values") >= 0 || any.whole(rest, "select") >= 0 {
					return true
				}
			}
			table = exact.name(exact.spaces(exact.word(i, "INSERT INTO")))
			if rest := exact.space(table); table >= 0 && has(v, rest, "(") {
				return true
			}
		case 'u':
			column := any.name(any.spaces(any.word(any.spaces(any.name(any.spaces(any.word(i, "update")))), "set")))
			if rest := any.space(column); column >= 0 && has(v, rest, "=") {
				return true
			}
		case 'd':
			if exact.name(exact.spaces(exact.words(i, "DELETE", "FROM"))) >= 0 ||
				any.goesOn(any.name(any.spaces(any.words(i, "delete", "from")))) {
				return true
			}
		}
	}
	return false
}

// selects reports whether a query begins at a byte.
func selects(any reader, at int) bool {
	for _, r := range []reader{{any.v, false}, any} {
		start := r.spaces(r.word(at, "SELECT"))
		if start < 0 {
			continue
		}
		if r.fold && r.name(r.spaces(r.word(r.spaces(r.word(start, "*")), "FROM"))) >= 0 {
			return true
		}
		for _, columns := range []int{r.spaces(r.word(start, "DISTINCT")), start} {
			if columns < 0 {
				continue
			}
			if table := r.from(columns); table >= 0 && (!r.fold || r.goesOn(table)) {
				return true
			}
		}
	}
	return false
}

// driverSays are what messages of drivers contain, in any letters; with … for what stands between the quotes before and
// behind it, which for ' and " may be anything else.
var driverSays = []string{"syntax error at or near", "you have an error in your SQL syntax", `near "…": syntax error`,
	"unique constraint failed", "foreign key constraint failed", "check constraint failed",
	"not null constraint failed",
	"duplicate key value violates unique constraint", "violates foreign key constraint", "violates check constraint",
	"violates not-null constraint", `relation "…" does not exist`, `column "…" does not exist`,
	`table "…" does not exist`,
	"no such table: ", "no such column: ", "unknown column '…' in", "table '…' doesn't exist",
	"duplicate entry '…' for key",
	"E11000 duplicate key", "deadlock found when", "deadlock detected", "invalid object name '",
	"incorrect syntax near"}

// hasDriver looks for the message of a database driver.
func hasDriver(v []byte) bool {
	if bytes.Contains(v, []byte("SQLSTATE")) || each(v, "ORA-", func(at int) bool {
		end := figures.run(v, at+len("ORA-"))
		return begins(v, at) && end-at-len("ORA-") == len("00942") && ends(v[end:])
	}) {
		return true
	}
	for _, says := range driverSays {
		if saidBy(v, says) {
			return true
		}
	}
	return false
}

// saidBy reports whether a text contains what a driver says.
func saidBy(v []byte, says string) bool {
	before, behind, quoted := cutQuote(says)
	r := reader{v, true}
	first := before[0] | 0x20
	for i, c := range v {
		if c|0x20 != first {
			continue
		}
		end := r.word(i, before)
		if end < 0 {
			continue
		}
		if !quoted {
			return true
		}
		n := bytes.IndexByte(v[end:], before[len(before)-1])
		empty := before == `near "` || before == "duplicate entry '" // where the name may be missing
		if n > 0 || n == 0 && empty {
			if r.word(end+n+1, behind) >= 0 {
				return true
			}
			of := r.word(end+n+1, ` of relation "`)
			if of >= 0 && behind == " does not exist" {
				if m := bytes.IndexByte(v[of:], '"'); m > 0 && r.word(of+m+1, behind) >= 0 {
					return true
				}
			}
		}
	}
	return false
}

// cutQuote cuts what a driver says around what stands in quotes.
func cutQuote(says string) (before, behind string, quoted bool) {
	const gap = "…"
	i := bytes.Index([]byte(says), []byte(gap))
	if i < 0 {
		return says, "", false
	}
	return says[:i], says[i+len(gap)+1:], true
}
