package service

import (
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"inkret/service/base"
)

// lineAt is a capture line of a call to a path that gets a body.
func lineAt(path, body string) string {
	return `{"request":{"url":"https://q.example` + path +
		`","headers":[{"name":"X-Desk","value":"2"}]},"response":{"status":200,"headers":[{"name":"Content-Type","value":"application/json"}],"body":` + body + "}}\n"
}

// TestTheSameValueIsKnownAgain links findings at which one value leaked, under other names
// and at other endpoints, without keeping it.
func TestTheSameValueIsKnownAgain(t *testing.T) {
	w := newWorld(t)
	w.alone()
	const ada, sol = "ada.quill@sails.example", "sol.harrow@sails.example"
	first := w.upload("monday.lines", lineAt("/skippers/7", `{"id":7,"name":"Ada","email":"`+ada+`"}`)+
		lineAt("/berths", `[{"contact":"`+ada+`"},{"contact":"`+sol+`"}]`))
	w.upload("tuesday.lines", lineAt("/crew", `{"who":"`+sol+`","level":"12345"}`)+
		lineAt("/plans", `{"note":"nobody@else.example"}`))
	byPath := map[string]base.Finding{}
	for _, f := range w.findings() {
		byPath[f.Path] = f
	}
	same := func(path string) string {
		t.Helper()
		v, err := w.Findings.Finding(t.Context(), base.Caller{}, byPath[path].ID)
		if err != nil {
			t.Fatal(err)
		}
		var paths []string
		for _, f := range v.SameValue {
			paths = append(paths, f.Path)
		}
		slices.Sort(paths)
		return strings.Join(paths, " ")
	}
	for path, want := range map[string]string{"$.email": "$[*].contact", "$[*].contact": "$.email $.who",
		"$.who": "$[*].contact", "$.note": ""} {
		if got := same(path); got != want {
			t.Errorf("the value of %s is known again at %q, want %q", path, got, want)
		}
	}
	// It is a keyed hash: the key lies sealed, is the same after a restart and a change of
	// the key file, and another data folder has another.
	before := printOf(t, w, ada)
	w.Close()
	if _, err := ChangeKey(t.Context(), w.dir, nil); err != nil {
		t.Fatal(err)
	}
	w.open()
	if again := printOf(t, w, ada); again != before || printOf(t, newWorld(t), ada) == before {
		t.Errorf("the print was %x, is %x, and elsewhere the same", before, again)
	}
	if text, err := os.ReadFile(filepath.Join(w.dir, "inkret.db")); err != nil || strings.Contains(string(text), ada) {
		t.Errorf("the value is in the database: %v", err)
	}
	// What a batch showed goes with it.
	if err := w.Evidence.Withdraw(t.Context(), w.who, first.ID, "by mistake"); err != nil {
		t.Fatal(err)
	}
	if got := same("$.who"); got != "" {
		t.Errorf("after the batch is withdrawn the value is known again at %q", got)
	}
}

// printOf returns the print that a world has of a value.
func printOf(t *testing.T, w *world, value string) uint64 {
	print, err := w.vault.Printer(t.Context(), w.store)
	if err != nil {
		t.Fatal(err)
	}
	return print([]byte(value))
}
