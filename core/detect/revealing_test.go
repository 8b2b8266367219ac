package detect

import (
	"math/rand/v2"
	"regexp"
	"strings"
	"testing"
)

// expressed are expressions of what is looked for, in the order of revealing.
var expressed = []*regexp.Regexp{
	regexp.MustCompile(`Traceback \(most recent call last\)|File "[^"]+", line \d+|(?m:^\s+at [\w$.<>]+ ?\()|\bat [\w$]+(\.[\w$<>]+)+\([\w.]+:\d+\)|goroutine \d+ \[|\w\.go:\d+|\.php(:| on line )\d+|\.rb:\d+:in |\.(js|ts|mjs):\d+:\d+|\bstack backtrace:|Exception in thread "`),
	regexp.MustCompile(statement),
	regexp.MustCompile(driver),
	regexp.MustCompile(`(?:^|[\s"'(:=])/(?:usr|home|var|opt|srv|etc|root|tmp|mnt)/[\w.@-]+|(?:^|[\s"'(:=])/(?:app|data|src|build)/[\w./@-]*\.\w{1,5}\b|\b[A-Za-z]:\\[\w .-]+\\`),
	regexp.MustCompile(`\b(?:10|127)(?:\.\d{1,3}){3}\b|\b192\.168(?:\.\d{1,3}){2}\b|\b172\.(?:1[6-9]|2\d|3[01])(?:\.\d{1,3}){2}\b|\blocalhost\b|\b[\w-]+(?:\.[\w-]+)*\.(?:internal|local|lan|intranet|corp)\b`),
}

// A statement must have the form of one, because words of query languages occur in sentences too. In lower case it
// needs more of that form.
const (
	sqlName = `(?:[\w.]+|"[^"]+"|` + "`[^`]+`" + `|\[[^\]]+\])`
	column  = `(?:\*|` + sqlName + `(?:\.\*)?(?:\s*\([^()]*\))?(?:\s+(?i:as)\s+` + sqlName + `)?)`
	columns = column + `(?:\s*,\s*` + column + `)*`
	// behind the table of a statement that is one in any letters
	goesOn = `(?:\s+(?:as\s+)?\w+)?\s+(?:where\s+(?:not\s+)?\(*` + sqlName +
		`\s*(?:[=<>!]|\bin\s*\(|\blike\b|\bis\s+(?:not\s+)?null|` +
		`\bbetween\b)|(?:(?:inner|left|right|full|cross)\s+(?:outer\s+)?)?join\s+` + sqlName + `|order\s+by\s+` +
		sqlName +
		`|group\s+by\s+` + sqlName + `|limit\s+(?:\d|\?|\$|:))`
	statement = `\bSELECT\s+(?:DISTINCT\s+)?` + columns + `\s+FROM\s+` + sqlName +
		`|(?i:\bselect\s+(?:distinct\s+)?` + columns + `\s+from\s+` + sqlName + goesOn + `)` +
		`|(?i:\bselect\s+\*\s+from\s+` + sqlName + `)` +
		`|(?i:\binsert\s+into\s+` + sqlName + `\s*(?:\([^)]*\)\s*)?\b(?:values|select)\b)` +
		`|\bINSERT INTO\s+` + sqlName + `\s*\(` +
		`|(?i:\bupdate\s+` + sqlName + `\s+set\s+` + sqlName + `\s*=)` +
		`|\bDELETE\s+FROM\s+` + sqlName + `|(?i:\bdelete\s+from\s+` + sqlName + goesOn + `)`
	driver = `SQLSTATE|\bORA-\d{5}\b|(?i:syntax error at or near|you have an error in your SQL syntax|near "[^"]*": syntax error|` +
		`(?:unique|foreign key|check|not null) constraint failed|duplicate key value violates unique constraint|` +
		`violates (?:foreign key|check|not-null) constraint|(?:relation|column|table) "[^"]+"(?: of relation "[^"]+")? does not exist|` +
		`no such (?:table|column): |unknown column '[^']+' in|table '[^']+' doesn't exist|duplicate entry '[^']*' for key|` +
		`E11000 duplicate key|deadlock (?:found when|detected)|invalid object name '|incorrect syntax near)`
)

// TestRevealingSkipsNothing checks that the loops find what the expressions do, and that the quick test of a text never
// hides it.
func TestRevealingSkipsNothing(t *testing.T) {
	pieces := []string{" ", "\n", "at ", "a.b", "(", "x.go:12", ".php on line 7", ".php:7", "SELECT", " a ", "FROM",
		"from", "where", "WHERE", "select ", "/usr/", "lib", `C:\dir\`, "10.0.0.7", "localhost", "db.internal",
		"ORA-00942", "SQLSTATE", "Traceback (most recent call last)", `File "a", line 3`, "goroutine 1 [",
		"stack backtrace:", "word", ".", "\"", ":", "=", "/app/a.js", "UPDATE ", "SET", "INSERT INTO", "DELETE FROM",
		"main.rb:3:in ", "syntax error at or near", " where ", "a = 1", " in (", " is not null", " like ", " order by ",
		" limit 5",
		"DISTINCT ", "distinct ", ",", ", b.*", "b.* ", "count(*)", ")", " as n ", " join t", " left outer join ",
		"insert into ", " values ", "(a)",
		" set ", "delete from ", "`x y`", "[y]", "\"t\"", "*", "duplicate entry 'x' for key", "Unknown column 'a' in",
		"near \"\": syntax error",
		"relation \"a\" of relation \"b\" does not exist", "table \"\" does not exist", "no such table: ",
		"\tat a.b.C(", "at a.b(C.java:12)", "at a$.<x>(D:3)", "10.1.2.3.4", "172.16.1.1",
		"172.32.1.1", "192.168.0.1", "127.0.0.1234", "/app/x", "/etc/passwd", "/data/a/b.sqlite3", "C:\\x y\\", ".corp",
		"-", "_", "a-.lan", ".rb:3:in", ".mjs:1:2", "css:1:2", ".php:", "File \"\", line 3",
		"deadlock detected", "ORA-123456", "xORA-12345", "like", "between", "order by", "group by 1"}
	r := rand.New(rand.NewPCG(4, 2))
	found := 0
	for range 20_000 {
		var b strings.Builder
		for range 1 + r.IntN(9) {
			b.WriteString(pieces[r.IntN(len(pieces))])
		}
		text, want := []byte(b.String()), ""
		for i := len(revealing) - 1; i >= 0; i-- {
			if expressed[i].Match(text) {
				want = revealing[i].name
			}
			if is := revealing[i].is(text); is != expressed[i].Match(text) {
				t.Fatalf("%q has %s: %v", text, revealing[i].name, is)
			}
		}
		if got := Revealing(text); got != want {
			t.Fatalf("%q is %q, want %q", text, got, want)
		}
		if want != "" {
			found++
		}
	}
	if found < 6_000 {
		t.Errorf("only %d texts reveal something", found)
	}
}

// TestStatementsAndSentences tells statements and drivers' messages from sentences that hold their words.
func TestStatementsAndSentences(t *testing.T) {
	for _, text := range []string{
		"SELECT id, name FROM berths", "select * from berths",
		"select b.id, count(*) as n from berths b where b.pier = 3",
		`SELECT "id" FROM "berths" ORDER BY 1`, "select id from berths order by id",
		"insert into berths (id, pier) values (1, 2)",
		"INSERT INTO berths(id) VALUES(1)", "update berths set price = 3 where id = 4", "DELETE FROM berths WHERE id=1",
		"delete from berths where id in (1,2)", "ERROR: duplicate key value violates unique constraint \"berths_pkey\"",
		"near \"FORM\": syntax error", "UNIQUE constraint failed: berths.id", "no such table: berths",
		"ORA-00942: table or view",
		"SQLSTATE[42S02]: Base table or view not found", "You have an error in your SQL syntax; check the manual",
		"Unknown column 'pier' in 'field list'", "relation \"berths\" does not exist",
		"E11000 duplicate key error collection: quay.berths", "select id from berths limit 10",
		"SELECT DISTINCT pier FROM harbour.berths JOIN piers ON piers.id = berths.pier_id",
	} {
		if what := Revealing([]byte(text)); what != "query text" && what != "a database driver's message" {
			t.Errorf("%q reveals %q", text, what)
		}
	}
	for _, text := range []string{
		"Please select a berth from the list where you live", "Please SELECT a berth FROM the list",
		"Select one from the menu.",
		"You cannot update the booking set by the office", "delete it from the list where it stands",
		"the selection does not exist",
		"Choose where to insert into the timetable", "Update your profile, set a name", "no such berth",
		"the table is set from nine",
		"Your select few from where we stand", "a duplicate entry for this day", "column two does not exist here",
		"The booking failed a check; constraint on dates", "Pick from all that we select and join us",
	} {
		if what := Revealing([]byte(text)); what != "" {
			t.Errorf("%q is told as %s", text, what)
		}
	}
}
