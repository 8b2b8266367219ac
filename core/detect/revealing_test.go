package detect

import (
	"math/rand/v2"
	"strings"
	"testing"
)

// TestRevealingSkipsNothing checks that the quick test of a text never hides a match of the expressions.
func TestRevealingSkipsNothing(t *testing.T) {
	pieces := []string{" ", "\n", "at ", "a.b", "(", "x.go:12", ".php on line 7", ".php:7", "SELECT", " a ", "FROM",
		"from", "where", "WHERE", "select ", "/usr/", "lib", `C:\dir\`, "10.0.0.7", "localhost", "db.internal",
		"ORA-00942", "SQLSTATE", "Traceback (most recent call last)", `File "a", line 3`, "goroutine 1 [",
		"stack backtrace:", "word", ".", "\"", ":", "=", "/app/a.js", "UPDATE ", "SET", "INSERT INTO", "DELETE FROM",
		"main.rb:3:in ", "syntax error at or near"}
	r := rand.New(rand.NewPCG(4, 2))
	found := 0
	for range 20_000 {
		var b strings.Builder
		for range 1 + r.IntN(7) {
			b.WriteString(pieces[r.IntN(len(pieces))])
		}
		text, want := []byte(b.String()), ""
		for i := len(revealing) - 1; i >= 0; i-- {
			if revealing[i].re.Match(text) {
				want = revealing[i].name
			}
		}
		if got := Revealing(text); got != want {
			t.Fatalf("%q is %q, want %q", text, got, want)
		}
		if want != "" {
			found++
		}
	}
	if found < 2_000 {
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
