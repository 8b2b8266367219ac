package detect

import (
	"math/rand/v2"
	"regexp"
	"strings"
	"testing"
)

// The expressions that say what the loops look for.
var (
	expressedStreets = regexp.MustCompile(`(?i)\b\d{1,5}[a-z]?,? (?:[\p{L}'.-]+ ){1,4}(?:street|st\.?|road|rd\.?|avenue|ave\.?|lane|drive|close|quay|square|terrace|way|court|row)\b` +
		`|(?:stra(?:ß|ss)e|str\.|weg|gasse|platz|allee|damm|ufer|straat|laan|kade|gracht|plein|vägen|gatan|gata|vej|gade) \d{1,5}\b` +
		`|\b(?:rue|avenue|boulevard|calle|avenida|plaza|via|viale|piazza|rua|ulica|ul\.) (?:[\p{L}'.-]+ ){0,4}[\p{L}'.-]+,? (?:n[º°.]? ?)?\d{1,5}\b|\b\d{1,5},? (?:rue|avenue|boulevard) `)
	expressedCode  = regexp.MustCompile(`[,\n] ?(?:[\p{L}' .-]{2,30}[, ]+)?(?:[A-Z]{1,2}-)?(?:\d{4,5}(?: ?[A-Z]{2})?|\d{3} \d{2}|\d{2}-\d{3}|[A-Z]{1,2}\d[A-Z\d]? ?\d[A-Z]{2})\b`)
	expressedPlace = regexp.MustCompile(`^[-+]?\d{1,2}\.\d{5,}[ ]?[,; ][ ]?[-+]?\d{1,3}\.\d{5,}$`)
	expressedTime  = regexp.MustCompile(`^\d{4}-\d\d-\d\d[Tt ]\d\d:\d\d:\d\d(\.\d+)?([Zz]|[+-]\d\d:\d\d)$`)
)

// TestLoopsLookForWhatIsExpressed compares the loops with expressions on texts by chance, most of them nearly
// addresses, places or times.
func TestLoopsLookForWhatIsExpressed(t *testing.T) {
	parts := []string{"12", "7", "12a", "123456", "Oak", "Old", "du", "l'Ancre", "St.", "Street", "street,", "Quay",
		"road", "rowing",
		"Hafenstraße", "kade", "Kade", "weg", "rue", "Rue", "via", "ul.", "n", "n.", "nº", "nº12", "n12", "Fennick",
		"Fennick,", "AB1",
		"2CD", "AB12CD", "1234", "1234 AB", "12345", "D-12345", "NL-1234 AB", "123 45", "12-345", "Møl'n-ø", "x_1",
		"(12", "\n", ",", ", ",
		",\n", "a1"}
	digits := []string{"54.978252", "-1.617439", "+1.00001", "1.2", "123.45678", "1234.56789", ", ", ";", " ",
		"2026-11-28", "T", "t", "10:00:00",
		".5", ".", "Z", "z", "+01:00", "-0100"}
	for seed := range uint64(40_000) {
		r := rand.New(rand.NewPCG(seed, 11))
		var words []string
		for range 2 + r.IntN(8) {
			words = append(words, parts[r.IntN(len(parts))])
		}
		text := []byte(strings.ReplaceAll(strings.Join(words, " "), " \n ", "\n"))
		if got, want := hasPostcode(text), expressedCode.Match(text); got != want {
			t.Fatalf("seed %d: a postcode in %q: %v, want %v", seed, text, got, want)
		}
		if got, want := hasStreet(text), expressedStreets.Match(text); got != want {
			t.Fatalf("seed %d: a street in %q: %v, want %v", seed, text, got, want)
		}
		text = text[:0]
		for range 1 + r.IntN(5) {
			text = append(text, digits[r.IntN(len(digits))]...)
		}
		if got, want := position(text).Found(), expressedPlace.Match(text) && len(text) >= 17; got && !want {
			t.Fatalf("seed %d: %q is a place", seed, text)
		}
		if got, want := dateTime(text), expressedTime.Match(text); got != want {
			t.Fatalf("seed %d: %q is a time: %v, want %v", seed, text, got, want)
		}
	}
}
