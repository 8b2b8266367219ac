// Package kinds holds what each kind of finding means, a page a kind.
package kinds

import (
	"embed"
	"strings"
)

//go:embed *.md
var pages embed.FS

// Page gives the page of a kind, Markdown (CommonMark); ok is false where there is none.
func Page(kind string) (text string, ok bool) {
	data, err := pages.ReadFile(kind + ".md")
	return string(data), err == nil
}

// Summary gives what a kind is, in a sentence or two.
func Summary(kind string) string {
	text, _ := Page(kind)
	_, text, _ = strings.Cut(text, "\n\n")
	first, _, _ := strings.Cut(text, "\n\n")
	return strings.ReplaceAll(first, "\n", " ")
}
