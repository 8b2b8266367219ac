// Package kinds contains a page about each kind of finding.
package kinds

import (
	"embed"
	"strings"
)

//go:embed *.md
var pages embed.FS

// Page returns the page of a kind as Markdown (CommonMark); ok is false if there is none.
func Page(kind string) (text string, ok bool) {
	data, err := pages.ReadFile(kind + ".md")
	return string(data), err == nil
}

// Summary describes a kind in a sentence or two.
func Summary(kind string) string {
	text, _ := Page(kind)
	_, text, _ = strings.Cut(text, "\n\n")
	first, _, _ := strings.Cut(text, "\n\n")
	return strings.ReplaceAll(first, "\n", " ")
}
