package detect

import (
	"bytes"
	"unicode/utf8"

	"inkret/core/catalog"
)

// dots stand for every hidden part of a value, whatever its length, because the length is information too.
const dots = "•••"

// Mask masks a value so that it can be told from others but not recovered: an e-mail address keeps its first
// letter, a hash or token only its notation, other text its first letter unless it is secret or short. The result
// contains printable characters only.
func Mask(value []byte, hit Hit, class catalog.Class) string {
	switch hit.Detector {
	case "e-mail address":
		return first(value[hit.at:hit.end]) + dots + "@" + dots
	case "phone number":
		return "+" + dots
	case "IBAN":
		return string(value[hit.at:hit.at+2]) + dots
	case "bcrypt hash", "Argon2 hash", "scrypt hash", "PBKDF2 hash", "crypt hash", "yescrypt hash":
		scheme := value[hit.at:hit.end]
		if end := bytes.IndexAny(scheme[1:], "$:"); end > 0 && end < 16 {
			return string(scheme[:end+2]) + dots
		}
		return dots
	case "signed token":
		return "eyJ" + dots
	case "private key":
		return "-----BEGIN " + dots
	}
	if hit.Found() || class == catalog.Secret || utf8.RuneCount(value) < shortestShown {
		return dots
	}
	return first(value) + dots
}

// shortestShown is the minimum length of a text whose first letter is shown.
const shortestShown = 5

func first(value []byte) string {
	r, _ := utf8.DecodeRune(value)
	if r == utf8.RuneError || !printable(r) {
		return ""
	}
	return string(r)
}

func printable(r rune) bool {
	return r > ' ' && r < 0x7f || r > 0xa0 && r < 0x2000 || r >= 0x3040 && r < 0xd800
}

// MaskPart masks what was found inside a longer text, for names and addresses.
func MaskPart(value []byte, hit Hit) string {
	if !hit.Found() {
		return string(value)
	}
	return string(value[:hit.at]) + Mask(value, hit, hit.Class) + string(value[hit.end:])
}
