package detect

import (
	"math/rand/v2"
	"strings"
	"testing"
)

// TestRevealingSkipsNothing: what is told from a text beforehand takes nothing from the expressions.
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
