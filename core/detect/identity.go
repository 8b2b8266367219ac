package detect

import (
	"bytes"
	"strconv"
	"strings"
	"time"
)

// National identity, tax and insurance numbers, recognised as whole values by notation and check digits. Numbers
// without a check are recognised by their names only.

// identities are the detectors of national numbers.
func identities() []recogniser {
	const (
		figures = HasDigit
		letters = HasDigit | HasUpper
	)
	return []recogniser{
		numbering("Spanish identity number", dni, 9, 9, letters, letters),
		numbering("Spanish identity number", dni, 10, 11, letters|HasDash, letters|HasDash),
		numbering("Italian tax code", codiceFiscale, 16, 16, letters, letters),
		numbering("French insurance number", nir, 15, 15, figures, figures),
		numbering("French insurance number", nir, 21, 21, figures|HasSpace, figures|HasSpace),
		numbering("Swedish personal number", personnummer, 11, 13, figures|HasDash, figures|HasDash),
		numbering("Swedish personal number", personnummer, 11, 13, figures|HasPlus, figures|HasPlus),
		numbering("Finnish personal code", henkilotunnus, 11, 11, figures, letters|HasDash|HasPlus),
		numbering("Polish identity number", pesel, 11, 11, figures, figures),
		numbering("Norwegian identity number", fodselsnummer, 11, 11, figures, figures),
		numbering("Norwegian identity number", fodselsnummer, 12, 12, figures|HasSpace, figures|HasSpace),
		numbering("Brazilian tax number", cpf, 14, 14, figures|HasDot|HasDash, figures|HasDot|HasDash),
		numbering("British insurance number", nino, 9, 9, letters, letters),
		numbering("British insurance number", nino, 13, 13, letters|HasSpace, letters|HasSpace),
		numbering("Belgian national number", rijksregister, 15, 15, figures|HasDot|HasDash, figures|HasDot|HasDash),
		numbering("Swiss insurance number", ahv, 16, 16, figures|HasDot, figures|HasDot),
	}
}

// numbering is a detector of whole values of a length range, in bytes.
func numbering(name string, holds func(v []byte) bool, least, most int, all, only Trait) recogniser {
	return recogniser{[]string{name}, least, most, all, only, func(v []byte) Hit {
		if holds(v) {
			hit := personal(name, nationalNumber, 0, len(v))
			hit.checked = true
			return hit
		}
		return Hit{}
	}}
}

// shaped reports whether v matches a picture: 9 a digit, A a capital letter, anything else itself.
func shaped(v []byte, picture string) bool {
	if len(v) != len(picture) {
		return false
	}
	for i := range v {
		switch picture[i] {
		case '9':
			if !digit(v[i]) {
				return false
			}
		case 'A':
			if !upper(v[i]) {
				return false
			}
		default:
			if v[i] != picture[i] {
				return false
			}
		}
	}
	return true
}

// digitsOf returns the digits of v.
func digitsOf(v []byte) []int {
	var all []int
	for _, c := range v {
		if digit(c) {
			all = append(all, int(c-'0'))
		}
	}
	return all
}

func weighted(d []int, weights ...int) int {
	sum := 0
	for i, w := range weights {
		sum += d[i] * w
	}
	return sum
}

func number64(v []byte) int64 {
	n, err := strconv.ParseInt(string(v), 10, 64)
	if err != nil {
		return -1
	}
	return n
}

// aDay reports whether a date exists. Years of two digits may be of any century.
func aDay(year, month, day int) bool {
	if month < 1 || month > 12 || day < 1 {
		return false
	}
	return day <= time.Date(2000+year%400, time.Month(month)+1, 0, 0, 0, 0, 0, time.UTC).Day()
}

// dni is the Spanish DNI and NIE: the letter is the number modulo 23.
func dni(v []byte) bool {
	const letters = "TRWAGMYFPDXBNJZSQVHLCKE"
	last := v[len(v)-1]
	switch {
	case shaped(v, "99999999A") || shaped(v, "99999999-A"):
		return letters[number64(v[:8])%23] == last
	case (shaped(v, "A9999999A") || shaped(v, "A-9999999-A")) && v[0] >= 'X' && v[0] <= 'Z':
		n := number64(bytes.Trim(v[1:len(v)-1], "-")) + int64(v[0]-'X')*10_000_000
		return letters[n%23] == last
	}
	return false
}

// codiceFiscale is the Italian tax code (DM 23 December 1976).
func codiceFiscale(v []byte) bool {
	if !shaped(v, "AAAAAA99A99A999A") || bytes.IndexByte([]byte("ABCDEHLMPRST"), v[8]) < 0 {
		return false
	}
	odd := []int{1, 0, 5, 7, 9, 13, 15, 17, 19, 21, 2, 4, 18, 20, 11, 3, 6, 8, 12, 14, 16, 10, 22, 25, 24, 23}
	sum := 0
	for i, c := range v[:15] {
		n := int(c - 'A')
		if digit(c) {
			n = int(c - '0')
		}
		if i%2 == 0 { // the first is odd
			n = odd[n]
		}
		sum += n
	}
	return byte('A'+sum%26) == v[15]
}

// nir is the French social insurance number: its key is 97 minus the remainder of the number.
func nir(v []byte) bool {
	if shaped(v, "9 99 99 99 999 999 99") {
		v = bytes.ReplaceAll(v, []byte(" "), nil)
	}
	if !shaped(v, "999999999999999") || v[0] != '1' && v[0] != '2' {
		return false
	}
	if m := number64(v[3:5]); m < 1 || m > 12 && m < 20 || m > 42 && m < 50 {
		return false
	}
	return 97-number64(v[:13])%97 == number64(v[13:])
}

// personnummer is the Swedish personal number, with a sign between date and number.
func personnummer(v []byte) bool {
	if len(v) == 13 && shaped(v[:2], "99") {
		v = v[2:]
	}
	if len(v) != 11 || v[6] != '-' && v[6] != '+' || !shaped(v[:6], "999999") || !shaped(v[7:], "9999") {
		return false
	}
	day := int(number64(v[4:6]))
	if day > 60 { // a coordination number
		day -= 60
	}
	return aDay(int(number64(v[:2])), int(number64(v[2:4])), day) && luhn(v)
}

// henkilotunnus is the Finnish personal identity code.
func henkilotunnus(v []byte) bool {
	const checks = "0123456789ABCDEFHJKLMNPRSTUVWXY"
	if len(v) != 11 || !shaped(v[:6], "999999") || !shaped(v[7:10], "999") || bytes.IndexByte([]byte("-+ABCDEFYXWVU"),
		v[6]) < 0 {
		return false
	}
	n := number64(append(append([]byte{}, v[:6]...), v[7:10]...))
	return aDay(int(number64(v[4:6])), int(number64(v[2:4])), int(number64(v[:2]))) && checks[n%31] == v[10]
}

// pesel is the Polish number; the month encodes the century.
func pesel(v []byte) bool {
	if !shaped(v, "99999999999") {
		return false
	}
	d := digitsOf(v)
	month := d[2]*10 + d[3]
	return month%20 >= 1 && month%20 <= 12 && month < 93 && aDay(d[0]*10+d[1], month%20, d[4]*10+d[5]) &&
		(10-weighted(d, 1, 3, 7, 9, 1, 3, 7, 9, 1, 3)%10)%10 == d[10]
}

// fodselsnummer is the Norwegian number with its two check digits.
func fodselsnummer(v []byte) bool {
	if len(v) == 12 && v[6] == ' ' {
		v = append(append([]byte{}, v[:6]...), v[7:]...)
	}
	if !shaped(v, "99999999999") {
		return false
	}
	d := digitsOf(v)
	day := d[0]*10 + d[1]
	if day > 40 {
		day -= 40
	}
	return aDay(d[4]*10+d[5], d[2]*10+d[3], day) && (11-weighted(d, 3, 7, 6, 1, 8, 9, 4, 5, 2)%11)%11 == d[9] &&
		(11-weighted(d, 5, 4, 3, 2, 7, 6, 5, 4, 3, 2)%11)%11 == d[10]
}

// cpf is the Brazilian tax number, written with points.
func cpf(v []byte) bool {
	if !shaped(v, "999.999.999-99") {
		return false
	}
	d := digitsOf(v)
	same := true
	for _, n := range d {
		same = same && n == d[0]
	}
	check := func(n int) int {
		sum := 0
		for i := range n {
			sum += d[i] * (n + 1 - i)
		}
		return sum * 10 % 11 % 10
	}
	return !same && check(9) == d[9] && check(10) == d[10]
}

// nino is the British national insurance number, which has few prefixes but no check digit.
func nino(v []byte) bool {
	if shaped(v, "AA 99 99 99 A") {
		v = bytes.ReplaceAll(v, []byte(" "), nil)
	}
	if !shaped(v, "AA999999A") || v[8] > 'D' || strings.ContainsRune("DFIQUV", rune(v[0])) ||
		strings.ContainsRune("DFIOQUV", rune(v[1])) {
		return false
	}
	switch string(v[:2]) {
	case "BG", "GB", "KN", "NK", "NT", "TN", "ZZ":
		return false
	}
	return true
}

// rijksregister is the Belgian national number.
func rijksregister(v []byte) bool {
	if !shaped(v, "99.99.99-999.99") {
		return false
	}
	d := digitsOf(v)
	n := int64(0)
	for _, c := range d[:9] {
		n = n*10 + int64(c)
	}
	check := int64(d[9]*10 + d[10])
	return aDay(d[0]*10+d[1], d[2]*10+d[3], d[4]*10+d[5]) && (97-n%97 == check || 97-(2_000_000_000+n)%97 == check)
}

// ahv is the Swiss social insurance number: an EAN-13 that begins with 756.
func ahv(v []byte) bool {
	if !shaped(v, "999.9999.9999.99") || string(v[:3]) != "756" {
		return false
	}
	d := digitsOf(v)
	return (10-weighted(d, 1, 3, 1, 3, 1, 3, 1, 3, 1, 3, 1, 3)%10)%10 == d[12]
}
