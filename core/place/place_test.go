package place

import (
	"slices"
	"testing"
)

func TestNamesInPaths(t *testing.T) {
	for name, want := range map[string]string{
		"email": ".email", "_x9": "._x9", "9x": "['9x']", "": "['']", "a-b": "['a-b']", "it's": `['it\'s']`,
		`back\slash`: `['back\\slash']`,
		"line\nfeed": `['line\nfeed']`, "\x01": `['\u0001']`, "\x1f\b\t\f\r": `['\u001f\b\t\f\r']`, "é": "['é']",
		`"`: `['"']`, "\xff": "['\uFFFD']",
	} {
		if got := Name(name); got != want {
			t.Errorf("%q is written %s, want %s", name, got, want)
		}
	}
}

func TestPointers(t *testing.T) {
	p := AppendIndex(AppendPointer(AppendPointer(nil, []byte("a/b")), []byte("m~n")), 12)
	if got, want := string(p), "/a~1b/m~0n/12"; got != want {
		t.Errorf("pointer %s, want %s", got, want)
	}
	tokens, ok := SplitPointer(string(p))
	if want := []string{"a/b", "m~n", "12"}; !ok || !slices.Equal(tokens, want) {
		t.Errorf("%s is split into %q, %v", p, tokens, ok)
	}
	for pointer, want := range map[string]bool{"": true, "/": true, "/a//b": true, "a": false, "/~2": false,
		"/~": false, "/~01": true} {
		if _, ok := SplitPointer(pointer); ok != want {
			t.Errorf("%q is a pointer: %v, want %v", pointer, ok, want)
		}
	}
}
