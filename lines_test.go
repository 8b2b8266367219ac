package inkret

import (
	"go/scanner"
	"go/token"
	"os"
	"os/exec"
	"strings"
	"testing"
	"unicode/utf8"
)

// columns is how wide a line of Go is at the most; a tab is four.
const columns = 120

// TestLinesAreNotTooLong holds every hand-written line of Go to 120 columns, except in raw strings: SQL, contracts
// and recordings are written as they are.
func TestLinesAreNotTooLong(t *testing.T) {
	listed, err := exec.Command("git", "ls-files", "*.go").Output()
	if err != nil {
		t.Skip("this is no repository: ", err)
	}
	for _, name := range strings.Fields(string(listed)) {
		if strings.HasSuffix(name, ".gen.go") {
			continue
		}
		text, err := os.ReadFile(name)
		if err != nil {
			continue // it is removed, and not yet noted
		}
		raw := rawLines(text)
		for i, line := range strings.Split(string(text), "\n") {
			width := utf8.RuneCountInString(line) + 3*strings.Count(line, "\t")
			if width > columns && !raw[i+1] {
				t.Errorf("%s:%d has %d columns", name, i+1, width)
			}
		}
	}
}

// rawLines are the lines of a file in which a raw string is.
func rawLines(text []byte) map[int]bool {
	files := token.NewFileSet()
	file := files.AddFile("", -1, len(text))
	var s scanner.Scanner
	s.Init(file, text, nil, 0)
	raw := map[int]bool{}
	for {
		at, kind, literal := s.Scan()
		if kind == token.EOF {
			return raw
		}
		if kind == token.STRING && literal[0] == '`' {
			first := file.Line(at)
			for n := range strings.Count(literal, "\n") + 1 {
				raw[first+n] = true
			}
		}
	}
}
