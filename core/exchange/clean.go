package exchange

import (
	"strings"
	"unicode"
)

// Clean makes recorded text safe for terminals and mails: control characters, and those that reorder or hide text,
// become U+FFFD.
func Clean(s string) string {
	return strings.Map(func(r rune) rune {
		if r < ' ' || r >= 0x7f && r < 0xa0 || unicode.Is(unicode.Cf, r) || unicode.Is(unicode.Zl, r) ||
			unicode.Is(unicode.Zp, r) {
			return unicode.ReplacementChar
		}
		return r
	}, s)
}
