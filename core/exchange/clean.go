package exchange

import (
	"strings"
	"unicode"
)

// Clean makes text from a recording safe where a line is a line and a letter a letter, as at a
// terminal and in a mail: control characters and those that reorder or hide text become
// visible as U+FFFD.
func Clean(s string) string {
	return strings.Map(func(r rune) rune {
		if r < ' ' || r >= 0x7f && r < 0xa0 || unicode.Is(unicode.Cf, r) || unicode.Is(unicode.Zl, r) ||
			unicode.Is(unicode.Zp, r) {
			return unicode.ReplacementChar
		}
		return r
	}, s)
}
