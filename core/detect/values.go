// Package detect recognises sensitive values and telling names, and masks them.
//
// [Set.Value] checks values and [Name] checks member names. Both take linear time and do not allocate for harmless
// input.
package detect

import (
	"bytes"
	"encoding/base64"

	"inkret/core/catalog"
)

// Rules is the version of the built-in rules. It increases when a change may alter findings.
const Rules = 4

// Trait is a property of the bytes in a value. The tokenizer collects the traits of a string with one table look-up
// per byte; most strings need no second look.
type Trait uint32

const (
	HasAt     Trait = 1 << iota // @
	HasDollar                   // $
	HasDigit
	HasDot
	HasDash // -
	HasPlus // +
	HasUpper
	HasColon // :
	HasLower
	HasSpace
	HasSlash // /
	HasEqual // =
	HasPercent
	HasUnderscore
	HasComma // a comma or line feed
	HasOther // any other byte
	HasB     // B, beside HasUpper: schemes begin with it
	HasJ     // J, beside HasUpper: so do parts of tokens

	traits = iota
)

// Traits returns the traits of every byte.
var Traits = func() (t [256]Trait) {
	for c := range t {
		t[c] = HasOther
	}
	for c, trait := range map[byte]Trait{'@': HasAt, '$': HasDollar, '.': HasDot, '-': HasDash, '+': HasPlus,
		':': HasColon, ' ': HasSpace,
		'/': HasSlash, '=': HasEqual, '%': HasPercent, '_': HasUnderscore, ',': HasComma, '\n': HasComma} {
		t[c] = trait
	}
	for c := '0'; c <= '9'; c++ {
		t[c] = HasDigit
	}
	for c := 'A'; c <= 'Z'; c++ {
		t[c], t[c|0x20] = HasUpper, HasLower
	}
	t['B'] |= HasB
	t['J'] |= HasJ
	return t
}()

// TraitsOf returns the traits of a whole value.
func TraitsOf(value []byte) Trait {
	var t Trait
	for _, c := range value {
		t |= Traits[c]
	}
	return t
}

// Hit is a recognised value. The zero Hit means none.
type Hit struct {
	Detector string // what was recognised, such as "bcrypt hash"
	Class    catalog.Class
	Format   string // a grant of this format covers it, unless it is secret
	at, end  int
	checked  bool // a check digit alone tells
}

// Found reports whether anything was recognised.
func (h Hit) Found() bool { return h.Detector != "" }

// Whole reports whether the match is the whole value.
func (h Hit) Whole(value []byte) bool { return h.at == 0 && h.end == len(value) }

// Checked reports whether the check digit alone tells what it is: a card number, or a national number.
func (h Hit) Checked() bool { return h.checked }

// nationalNumber is the format of numbers that identify a person in one country.
const nationalNumber = "national-id"

func secret(name string, at, end int) Hit {
	return Hit{Detector: name, Class: catalog.Secret, at: at, end: end}
}

func personal(name, format string, at, end int) Hit {
	return Hit{Detector: name, Class: catalog.Personal, Format: format, at: at, end: end}
}

// shortestToken is less than the length of any signed token in use.
const shortestToken = 20

var (
	tokenStart = []byte("eyJ") // base64url of `{"`
	keyStart   = []byte("-----BEGIN ")
	keyEnd     = []byte("PRIVATE KEY")
	keyForeign = []byte("---- BEGIN SSH2 ENCRYPTED PRIVATE KEY ----") // as RFC 4716 writes public ones
	keyFile    = []byte("PuTTY-User-Key-File-")
	keyInFile  = []byte("Private-Lines:")
)

// signedToken finds a JWS or JWE in compact form (RFC 7515, RFC 7516): base64url parts between dots, of which the
// first is a JSON object that names an algorithm.
func signedToken(v []byte) Hit {
	for from := 0; ; {
		i := bytes.Index(v[from:], tokenStart)
		if i < 0 {
			return Hit{}
		}
		at := from + i
		end, dots := at, []int(nil)
		var room [5]int
		dots = room[:0]
		for end < len(v) && (base64url(v[end]) || v[end] == '.' && len(dots) < 4) {
			if v[end] == '.' {
				dots = append(dots, end)
			}
			end++
		}
		if len(dots) >= 2 && dots[1] > dots[0]+1 && tokenHeader(v[at:dots[0]]) {
			return secret("signed token", at, end)
		}
		from = max(end, at+len(tokenStart))
	}
}

func base64url(c byte) bool {
	return c >= '0' && c <= '9' || c|0x20 >= 'a' && c|0x20 <= 'z' || c == '-' || c == '_'
}

// maxTokenHeader limits how much of a header is decoded.
const maxTokenHeader = 4096

func tokenHeader(part []byte) bool {
	if len(part) > maxTokenHeader {
		return false
	}
	header := make([]byte, base64.RawURLEncoding.DecodedLen(len(part)))
	n, err := base64.RawURLEncoding.Decode(header, part)
	header = header[:n]
	return err == nil && bytes.HasPrefix(header, []byte(`{"`)) && bytes.Contains(header, []byte(`"alg"`))
}

// privateKey finds a private key in textual encoding (RFC 7468 and its predecessors, RFC 9580 section 6.2).
func privateKey(v []byte) Hit {
	const longestLabel = len("ENCRYPTED ") + 16
	if i := bytes.Index(v, keyForeign); i >= 0 {
		return secret("private key", i, len(v))
	}
	if i := bytes.Index(v, keyFile); i >= 0 && bytes.Contains(v[i:], keyInFile) {
		return secret("private key", i, len(v))
	}
	for from := 0; ; {
		i := bytes.Index(v[from:], keyStart)
		if i < 0 {
			return Hit{}
		}
		at := from + i
		label := v[at+len(keyStart):]
		if j := bytes.Index(label[:min(len(label), longestLabel+len(keyEnd))], keyEnd); j >= 0 &&
			bytes.IndexByte(label[:j], '-') < 0 {
			if rest := label[j+len(keyEnd):]; bytes.HasPrefix(rest, []byte("-----")) ||
				bytes.HasPrefix(rest, []byte(" BLOCK-----")) {
				return secret("private key", at, len(v))
			}
		}
		from = at + len(keyStart)
	}
}

// annotation begins what OData adds to the name of a property (OData JSON Format 4.01, section 4.6).
var annotation = []byte("odata.")

func email(v []byte) Hit {
	for from := 0; ; {
		i := bytes.IndexByte(v[from:], '@')
		if i < 0 {
			return Hit{}
		}
		at := from + i
		start := at
		for start > from && at-start < maxLocalPart && localPart(v[start-1]) {
			start--
		}
		for start < at && (v[start] == '.' || v[start] == '\'' || v[start] == '/') {
			start++
		}
		end, dot := at+1, -1
		for end < len(v) && end-at <= maxDomain && (letterOrDigit(v[end]) || v[end] == '-' || v[end] == '.' ||
			v[end] >= 0x80) {
			if v[end] == '.' {
				dot = end
			}
			end++
		}
		stop := end
		if dot == stop-1 { // the full stop of a sentence
			stop = dot
			dot = bytes.LastIndexByte(v[at:stop], '.')
			if dot >= 0 {
				dot += at
			}
		}
		if start < at && !inAuthority(v[:start]) && v[at-1] != '.' && dot > at+1 && topLevel(v[dot+1:stop]) &&
			v[at+1] != '-' && !bytes.Contains(v[at+1:stop], []byte("..")) && !roleAddress(v[start:at]) &&
			!bytes.HasPrefix(v[at+1:stop], annotation) &&
			!(string(v[start:at]) == "git" && stop < len(v) && v[stop] == ':') {
			return personal(EmailAddress, "email", start, stop)
		}
		from = at + 1
	}
}

// inAuthority reports whether what follows is the authority of an address, whose user is not part of an e-mail
// address.
func inAuthority(before []byte) bool {
	before = before[max(0, len(before)-longestUser):]
	i := bytes.LastIndex(before, []byte("://"))
	return i >= 0 && !bytes.ContainsAny(before[i+len("://"):], "/?# \t\n\"<>,;")
}

const (
	maxLocalPart = 64  // RFC 5321 section 4.5.3.1.1
	maxDomain    = 255 // RFC 5321 section 4.5.3.1.2
	longestUser  = 256 // before a host, with its scheme; longer ones are not looked for
)

func localPart(c byte) bool {
	return letterOrDigit(c) || c >= 0x80 || bytes.IndexByte([]byte(".!#$%&'*+/=?^_`{|}~-"), c) >= 0
}

func letterOrDigit(c byte) bool {
	return c >= '0' && c <= '9' || c|0x20 >= 'a' && c|0x20 <= 'z'
}

// fileEndings lists what follows the last dot of file names such as icon@2x.png.
var fileEndings = map[string]bool{"png": true, "jpg": true, "jpeg": true, "gif": true, "svg": true, "webp": true,
	"avif": true,
	"css":  true, "js": true, "mjs": true, "ts": true, "json": true, "html": true, "ico": true, "pdf": true,
	"log": true,
	"txt": true, "conf": true, "yaml": true, "yml": true, "xml": true, "csv": true, "gz": true, "tgz": true,
	"bak":  true,
	"lock": true, "sock": true, "pem": true, "db": true}

func topLevel(label []byte) bool {
	if len(label) < 2 || len(label) > 63 {
		return false
	}
	letters := true
	for _, c := range label {
		letters = letters && (c|0x20 >= 'a' && c|0x20 <= 'z' || c >= 0x80)
	}
	if !letters && !bytes.HasPrefix(label, []byte("xn--")) {
		return false
	}
	return len(label) > 5 || !fileEndings[string(bytes.ToLower(label))]
}

const (
	minPhone = 8  // digits of the shortest international numbers in use
	maxPhone = 15 // ITU-T E.164
)

// phone recognises a whole value that is an international phone number (ITU-T E.123 and E.164): a plus, then digits
// in groups.
func phone(v []byte) Hit {
	rest := bytes.TrimPrefix(bytes.TrimSpace(v), []byte("tel:"))
	if len(rest) < minPhone+1 || len(rest) > 2*maxPhone || rest[0] != '+' || rest[1] < '1' || rest[1] > '9' {
		return Hit{}
	}
	if decimal(rest[1:]) {
		return Hit{}
	}
	count, open := 0, false
	for i, c := range rest[1:] {
		switch {
		case c >= '0' && c <= '9':
			count++
		case c == '(' && !open:
			open = true
		case c == ')' && open:
			open = false
		case (c == ' ' || c == '-' || c == '.' || c == '/') && i+2 < len(rest):
		default:
			return Hit{}
		}
	}
	if open || count < minPhone || count > maxPhone {
		return Hit{}
	}
	return personal("phone number", "phone", 0, len(v))
}

// decimal reports whether a text is digits with one point between them.
func decimal(v []byte) bool {
	before, after, is := bytes.Cut(v, []byte("."))
	return is && figures.run(before, 0) == len(before) && figures.run(after, 0) == len(after)
}

const (
	minCard = 12
	maxCard = 19
)

// EmailAddress is the detector name of e-mail addresses.
const EmailAddress = "e-mail address"

// CardNumber is the detector name of payment card numbers.
const CardNumber = "card number"

// cardNumber finds a payment card number (ISO/IEC 7812) anywhere in v: 12 to 19 digits, with or without groups,
// with the prefix and length of a large network, and a correct check digit.
func cardNumber(v []byte) Hit {
	var digits [maxCard]byte
	for i := 0; i < len(v); {
		if v[i] < '0' || v[i] > '9' {
			i++
			continue
		}
		n, at, last, j := 0, i, i, i
		separator := byte(0)
		for ; j < len(v) && n <= maxCard; j++ {
			c := v[j]
			if c >= '0' && c <= '9' {
				if n < maxCard {
					digits[n] = c - '0'
				}
				n++
				last = j
				continue
			}
			// one separator, the same throughout, between digits
			if (c == ' ' || c == '-') && (separator == 0 || separator == c) && j+1 < len(v) && v[j+1] >= '0' &&
				v[j+1] <= '9' {
				separator = c
				continue
			}
			break
		}
		for j < len(v) && v[j] >= '0' && v[j] <= '9' {
			j++
			n = maxCard + 1
		}
		if n >= minCard && n <= maxCard && !wordAround(v, at, last) && network(digits[:n]) && luhnDigits(digits[:n]) &&
			grouped(v[at:last+1], separator) {
			hit := secret(CardNumber, at, last+1)
			hit.checked = true
			return hit
		}
		i = max(j, i+1)
	}
	return Hit{}
}

// wordAround reports whether letters, digits or a decimal point adjoin v[at:last+1], which then is part of a longer
// identifier or number.
func wordAround(v []byte, at, last int) bool {
	joins := func(c byte) bool { return letterOrDigit(c) || c == '_' || c == '.' || c == '+' }
	if at > 0 && (joins(v[at-1]) || v[at-1] == '-') {
		return true
	}
	return last+1 < len(v) && (letterOrDigit(v[last+1]) || v[last+1] == '_' || v[last+1] == '-' || v[last+1] == '.' &&
		last+2 < len(v) && letterOrDigit(v[last+2]))
}

// grouped checks that digits are grouped as on a card: 4 each, or 4-6-5 and 4-6-4.
func grouped(text []byte, separator byte) bool {
	if separator == 0 {
		return true
	}
	var sizes []int
	for _, g := range bytes.Split(text, []byte{separator}) {
		sizes = append(sizes, len(g))
	}
	if len(sizes) == 3 && sizes[0] == 4 && sizes[1] == 6 && (sizes[2] == 5 || sizes[2] == 4) {
		return true
	}
	for i, n := range sizes {
		if n != 4 && (i < len(sizes)-1 || n > 4) {
			return false
		}
	}
	return true
}

// network reports whether the digits have the prefix and length of a payment network.
func network(d []byte) bool {
	n := len(d)
	p2, p3, p4 := int(d[0])*10+int(d[1]), 0, 0
	p3 = p2*10 + int(d[2])
	p4 = p3*10 + int(d[3])
	switch {
	case d[0] == 4:
		return n == 16 || n == 19 // those of 13 are no longer in use, and article numbers look alike
	case p2 >= 51 && p2 <= 55, p4 >= 2221 && p4 <= 2720:
		return n == 16
	case p2 == 34 || p2 == 37:
		return n == 15
	case p3 >= 300 && p3 <= 305, p2 == 36, p2 == 38, p2 == 39:
		return n == 14 || n == 16
	case p4 == 6011, p2 == 65, p3 >= 644 && p3 <= 649, p2 == 62:
		return n >= 16
	case p4 >= 3528 && p4 <= 3589:
		return n >= 16
	case p4 == 5018, p4 == 5020, p4 == 5038, p4 == 5893, p4 == 6304, p4 == 6759, p4 >= 6761 && p4 <= 6763:
		return n >= 12
	}
	return false
}

// luhn checks the last digit of text (ISO/IEC 7812-1 annex B), ignoring other bytes.
func luhn(text []byte) bool {
	var d []byte
	for _, c := range text {
		if c >= '0' && c <= '9' {
			d = append(d, c-'0')
		}
	}
	return len(d) > 1 && luhnDigits(d)
}

func luhnDigits(d []byte) bool {
	sum, same := 0, true
	for i := range d {
		x := int(d[len(d)-1-i])
		same = same && d[i] == d[0]
		if i%2 == 1 {
			if x *= 2; x > 9 {
				x -= 9
			}
		}
		sum += x
	}
	return sum%10 == 0 && !same
}

const (
	minIBAN = 15
	maxIBAN = 34
)

// ibanLength returns the length of an IBAN by country (ISO 13616 registry).
var ibanLength = map[string]int{
	"AD": 24, "AE": 23, "AL": 28, "AT": 20, "AZ": 28, "BA": 20, "BE": 16, "BG": 22, "BH": 22, "BI": 27, "BR": 29,
	"BY": 28,
	"CH": 21, "CR": 22, "CY": 28, "CZ": 24, "DE": 22, "DJ": 27, "DK": 18, "DO": 28, "EE": 20, "EG": 29, "ES": 24,
	"FI": 18,
	"FK": 18, "FO": 18, "FR": 27, "GB": 22, "GE": 22, "GI": 23, "GL": 18, "GR": 27, "GT": 28, "HR": 21, "HU": 28,
	"IE": 22,
	"IL": 23, "IQ": 23, "IS": 26, "IT": 27, "JO": 30, "KW": 30, "KZ": 20, "LB": 28, "LC": 32, "LI": 21, "LT": 20,
	"LU": 20,
	"LV": 21, "LY": 25, "MC": 27, "MD": 24, "ME": 22, "MK": 19, "MN": 20, "MR": 27, "MT": 31, "MU": 30, "NI": 28,
	"NL": 18,
	"NO": 15, "OM": 23, "PK": 24, "PL": 28, "PS": 29, "PT": 25, "QA": 29, "RO": 24, "RS": 22, "RU": 33, "SA": 24,
	"SC": 31,
	"SD": 18, "SE": 24, "SI": 19, "SK": 24, "SM": 27, "SO": 23, "ST": 25, "SV": 28, "TL": 23, "TN": 24, "TR": 26,
	"UA": 29,
	"VA": 22, "VG": 24, "XK": 20, "YE": 30,
}

const letterCount = 26

// ibanLengths is ibanLength by the two letters of the country.
var ibanLengths = func() (t [letterCount * letterCount]uint8) {
	for country, n := range ibanLength {
		t[int(country[0]-'A')*letterCount+int(country[1]-'A')] = uint8(n)
	}
	return t
}()

// iban finds an IBAN anywhere in v, with or without groups of four.
func iban(v []byte) Hit {
	for i := 0; i+minIBAN <= len(v); i++ {
		if !upper(v[i]) || !upper(v[i+1]) || !digit(v[i+2]) || !digit(v[i+3]) || i > 0 && letterOrDigit(v[i-1]) {
			continue
		}
		want := int(ibanLengths[int(v[i]-'A')*letterCount+int(v[i+1]-'A')])
		if want == 0 {
			continue
		}
		var compact [maxIBAN]byte
		n, j := 0, i
		for ; j < len(v) && n < want; j++ {
			if v[j] == ' ' && n%4 == 0 && n > 0 {
				continue
			}
			if !upper(v[j]) && !digit(v[j]) {
				break
			}
			compact[n] = v[j]
			n++
		}
		if n == want && (j == len(v) || !letterOrDigit(v[j])) && mod97(compact[:n]) {
			return personal("IBAN", "iban", i, j)
		}
	}
	return Hit{}
}

func upper(c byte) bool { return c >= 'A' && c <= 'Z' }
func digit(c byte) bool { return c >= '0' && c <= '9' }

// mod97 checks an IBAN (ISO 7064 MOD 97-10), ignoring blanks.
func mod97(text []byte) bool {
	var room [maxIBAN]byte
	compact := room[:0]
	for _, c := range text {
		if c != ' ' {
			compact = append(compact, c)
		}
	}
	const moved = 4 // the country and the check digits count last
	if len(compact) <= moved {
		return false
	}
	rest, ok := rest97(0, compact[moved:])
	if ok {
		rest, ok = rest97(rest, compact[:moved])
	}
	return ok && rest%97 == 1
}

// rest97 continues the rest of a division by 97, which is taken only where the number would not fit.
func rest97(rest uint64, text []byte) (uint64, bool) {
	const large = 1 << 56
	for _, c := range text {
		switch {
		case digit(c):
			rest = rest*10 + uint64(c-'0')
		case c|0x20 >= 'a' && c|0x20 <= 'z':
			rest = rest*100 + uint64(c|0x20-'a') + 10
		default:
			return 0, false
		}
		if rest >= large {
			rest %= 97
		}
	}
	return rest, true
}
