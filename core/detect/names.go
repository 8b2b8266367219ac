package detect

import (
	"bytes"
	"strings"
	"unicode"
	"unicode/utf8"

	"inkret/core/catalog"
)

// Telling is what a member's name says about its value. It only applies to values of a matching form; numbers of
// the wrong kind, truth values, null and empty values never match. The zero Telling matches nothing.
type Telling struct {
	Class catalog.Class
	group uint8 // of vocabulary
	form  form
}

// Holds reports whether the name applies to a value: a text, or a number as written.
func (t Telling) Holds(value []byte, number bool) bool {
	return t.Class != catalog.Unclassed && len(value) > 0 && (t.form == nil || t.form(value, number))
}

// telling maps words, and runs of joined words, to what they say about a member. docs/judging.md lists them.
var telling map[string]Telling

func init() { telling = tellingNames() }

// form reports whether a value has the form that a name tells of. It looks at the kinds of characters only, so that
// it works for stand-ins too.
type form func(value []byte, number bool) bool

// counted counts the kinds of characters in a value.
type counted struct{ letters, digits, spaces, others int }

func countIn(value []byte) (n counted) {
	var kinds [otherKind + 1]int
	for i, c := range value {
		if c >= utf8.RuneSelf {
			return countRunes(value[i:], counted{kinds[letterKind], kinds[digitKind], kinds[spaceKind],
				kinds[otherKind]})
		}
		kinds[kindOf[c]]++
	}
	return counted{kinds[letterKind], kinds[digitKind], kinds[spaceKind], kinds[otherKind]}
}

func countRunes(value []byte, n counted) counted {
	for _, r := range string(value) {
		switch {
		case unicode.IsLetter(r) || r == '?': // which stands in for one
			n.letters++
		case r >= '0' && r <= '9':
			n.digits++
		case unicode.IsSpace(r):
			n.spaces++
		default:
			n.others++
		}
	}
	return n
}

const (
	letterKind = iota
	digitKind
	spaceKind
	otherKind
)

// kindOf returns the kind of every character of ASCII.
var kindOf = func() (kinds [utf8.RuneSelf]uint8) {
	for i := range kinds {
		switch n := countRunes([]byte{byte(i)}, counted{}); {
		case n.letters > 0:
			kinds[i] = letterKind
		case n.digits > 0:
			kinds[i] = digitKind
		case n.spaces > 0:
			kinds[i] = spaceKind
		default:
			kinds[i] = otherKind
		}
	}
	return kinds
}()

func blank(value []byte) bool { return len(bytes.TrimSpace(value)) == 0 }

// whole reports whether a number has no fraction or exponent, and at least this many digits.
func whole(value []byte, digits int) bool {
	n := countIn(value)
	return n.digits == len(value) && n.digits >= digits
}

func wordsForm(value []byte, number bool) bool { return !number && !blank(value) }

func passwordForm(value []byte, number bool) bool {
	return number && whole(value, 4) || !number && !blank(value) && !dated(value) &&
		!bytes.Contains(value, []byte("://"))
}

// dated reports whether a value begins as a date does (RFC 3339).
func dated(v []byte) bool {
	const form = "1111-11-11"
	for i := range form {
		if i >= len(v) || digit(v[i]) != (form[i] == '1') || form[i] == '-' && v[i] != '-' {
			return false
		}
	}
	return true
}

// codeForm matches 3 to 64 letters and digits with a digit among them, as in codes that people type.
func codeForm(value []byte, number bool) bool {
	if number {
		return whole(value, 3) && len(value) <= 12
	}
	n := countIn(value)
	return n.digits > 0 && len(value) >= 3 && len(value) <= 64 && n.spaces <= 3 && n.letters <= 12*max(1, n.digits)
}

// keyForm matches text that nobody types: neither a word nor a sentence.
func keyForm(value []byte, number bool) bool {
	if number || len(value) < 8 {
		return false
	}
	if bytes.HasPrefix(value, []byte("-----")) { // armoured (RFC 7468)
		return true
	}
	n := countIn(value)
	if n.spaces > 1 || bytes.Contains(value, []byte("://")) {
		return false
	}
	return n.digits > 0 || len(value) >= 20 || mixed(value)
}

// barredKeyForm is keyForm without spaces: public keys have them.
func barredKeyForm(value []byte, number bool) bool {
	return keyForm(value, number) && (bytes.HasPrefix(value, []byte("-----")) || bytes.IndexByte(value, ' ') < 0)
}

// drawnKeyForm matches what somebody drew, under names that may stand for a plain name as well.
func drawnKeyForm(value []byte, number bool) bool {
	n := countIn(value)
	return !number && len(value) >= leastRandom && n.digits >= 2 && n.letters >= 6 && n.spaces == 0 && n.others <= 2 &&
		!bytes.ContainsAny(value, `/\.:`)
}

// mixed reports whether upper and lower case alternate as in no word: Ab, bA, b.
func mixed(value []byte) bool {
	changes := 0
	for i := 1; i < len(value); i++ {
		if upper(value[i]) != upper(value[i-1]) {
			changes++
		}
	}
	return changes > 3
}

func cardForm(value []byte, number bool) bool {
	n := countIn(value)
	return n.digits >= 12 && n.letters == 0 && len(value) <= 25 && (!number || n.digits == len(value))
}

// trackForm matches what a magnetic stripe holds (ISO/IEC 7813).
func trackForm(value []byte, number bool) bool {
	return !number && countIn(value).digits >= 16 && len(value) <= 80
}

func checkForm(value []byte, _ bool) bool { return whole(value, 3) && len(value) <= 4 }

func mailForm(value []byte, number bool) bool {
	at := bytes.LastIndexByte(value, '@')
	return !number && at > 0 && at < len(value)-1 && !roleAddress(value[:at])
}

func phoneForm(value []byte, number bool) bool {
	n := countIn(value)
	return number && whole(value, 7) || !number && n.digits >= 5 && n.digits >= n.letters && len(value) <= 40
}

func birthForm(value []byte, number bool) bool {
	n := countIn(value)
	return number && whole(bytes.TrimPrefix(value, []byte("-")), 4) || !number && n.digits >= 3 && len(value) <= 40
}

func identForm(value []byte, number bool) bool {
	n := countIn(value)
	return number && whole(value, 5) || !number && n.digits >= 2 && len(value) >= 4 && len(value) <= 48 &&
		bytes.IndexByte(value, '@') < 0
}

// fullNameForm matches two words and more with capitals, small words as in "van der" between them.
func fullNameForm(value []byte, number bool) bool {
	if number || !nameForm(value, false) {
		return false
	}
	capitals := 0
	for _, w := range strings.Fields(string(value)) {
		if r, _ := utf8.DecodeRuneInString(w); unicode.IsUpper(r) || r == '?' {
			capitals++
		} else if len(w) > 3 {
			return false
		}
	}
	return capitals >= 2 && capitals <= 5
}

// nameForm matches letters, without characters of paths and identifiers.
func nameForm(value []byte, number bool) bool {
	n := countIn(value)
	return !number && n.letters > 0 && n.digits == 0 && len(value) <= 200 && !bytes.ContainsAny(value, `/\_@:{}<>=|`)
}

func placeForm(value []byte, number bool) bool {
	n := countIn(value)
	return !number && n.letters > 0 && (n.digits > 0 || n.spaces > 0) && len(value) >= 4 &&
		!bytes.Contains(value, []byte("://")) && !(n.spaces == 0 && n.digits > n.letters)
}

func postForm(value []byte, number bool) bool {
	n := countIn(value)
	return number && whole(value, 3) && len(value) <= 9 || !number && n.digits >= 2 && len(value) <= 12
}

func amountForm(value []byte, _ bool) bool { return countIn(value).digits > 0 }

func addressForm(value []byte, number bool) bool {
	return !number && len(value) >= 3 && bytes.ContainsAny(value, ".:-")
}

// carrying words after a telling word do not change its meaning: password_hash is as secret as password.
var carrying = map[string]bool{}

// reversing words before or after a telling word turn it into a property of the thing: has_phone, public_key,
// token_count.
var reversing = map[string]bool{}

func init() {
	for _, w := range strings.Fields(`hash hashed digest encrypted enc cipher plain plaintext clear cleartext raw value number no nr
		num nbr string text salt hex base64 b64 b32 base pem der primary secondary private home work old new current previous line
		bcrypt scrypt argon2 sha256 sha512 md5 sha1 hint full personal business office main alternate alternative confirmation confirm
		repeat normalized normalised canonical lowercase formatted e164 block`) {
		carrying[w] = true
	}
	for _, w := range strings.Fields(`has is can needs requires require allow allows allowed show hide hides public no without with num
		count csrf xsrf next page continuation cursor must use uses web max min boarding map tipo tip type typ soort art har hat ist
		tiene heeft antal anzahl aantal cantidad quantidade fecha date datum ostatnia`) {
		reversing[w] = true
	}
}

// versioned returns a word without a version behind it: hash2, v2.
func versioned(w string) string {
	w = strings.TrimRight(w, "0123456789")
	if w == "v" {
		return ""
	}
	return w
}

const (
	maxNameWords  = 12 // longer names are prose, not names
	maxNameLength = 96
)

// Name returns the class that a member name tells by itself, in any casing: passwordHash, password_hash and
// PASSWORD-HASH alike; [catalog.Unclassed] if it tells nothing.
func Name(name []byte) catalog.Class { return Tell(name).Class }

// HandedOut reports whether a name tells of what somebody is given to use: a token, key or code. A password, a
// hash or a card's number is not.
func HandedOut(name []byte) bool {
	t := Tell(name)
	for _, of := range []string{"token", "otp", "accesskey", "licensekey"} {
		if t.Class == catalog.Secret && t.group == telling[of].group {
			return true
		}
	}
	return false
}

// Tell returns what a member's name says, read word by word.
func Tell(name []byte) Telling {
	if len(name) > maxNameLength || len(name) < 2 {
		return Telling{}
	}
	var room [maxNameWords]string
	words := Words(room[:0], name)
	if len(words) > maxNameWords {
		return Telling{}
	}
	for i, w := range words {
		if !ascii(w) {
			words[i] = plainLetters.Replace(w)
		}
	}
	var found Telling
	end := 0 // of the run that was found
	for from := range words {
		run, to := longest(words, from)
		if run.Class > found.Class || run.Class == found.Class && from >= end { // the last word names the thing itself
			found, end = run, to
		}
		if found.Class == catalog.Unclassed && reverses(words, from) {
			return Telling{}
		}
	}
	return found
}

// longest returns what the longest run of telling words from one on says, which tells most (account_no, next_of_kin),
// and the word behind it.
func longest(words []string, from int) (run Telling, end int) {
	joined := ""
	for to := from; to < len(words) && to < from+longestRun; to++ {
		joined += words[to]
		one := telling[joined]
		if one.Class == catalog.Unclassed {
			one = telling[versioned(joined)]
		}
		if one.Class > catalog.Unclassed && one.Class >= run.Class && carries(words[to+1:]) {
			run, end = one, to+1
		}
	}
	return run, end
}

// longestRun is the most words of a telling name.
const longestRun = 5

// reverses reports whether the word at i negates a telling name: no_password, but not account_no.
func reverses(words []string, i int) bool {
	return reversing[words[i]] && !(i > 0 && i == len(words)-1 && carrying[words[i]])
}

// carries reports whether none of the words changes the meaning of what is before them.
func carries(words []string) bool {
	for _, w := range words {
		if !carrying[w] && !carrying[versioned(w)] && telling[w].Class == catalog.Unclassed && versioned(w) != "" {
			return false
		}
	}
	return true
}

func ascii(s string) bool {
	for i := range len(s) {
		if s[i] >= utf8.RuneSelf {
			return false
		}
	}
	return true
}

// Words appends the words of a name in lower case. It splits at anything but letters and digits, and where the case
// changes (userID, HTTPServer).
func Words(dst []string, name []byte) []string {
	var word []byte
	flush := func() {
		if len(word) > 0 {
			dst = append(dst, string(word))
			word = word[:0]
		}
	}
	var before rune
	for i := 0; i < len(name); {
		r, n := utf8.DecodeRune(name[i:])
		next, _ := utf8.DecodeRune(name[i+n:])
		switch {
		case !unicode.IsLetter(r) && !unicode.IsDigit(r):
			flush()
		default:
			if unicode.IsUpper(r) && (unicode.IsLower(before) || unicode.IsDigit(before) || unicode.IsUpper(before) &&
				unicode.IsLower(next)) {
				flush()
			}
			word = utf8.AppendRune(word, unicode.ToLower(r))
		}
		before, i = r, i+n
	}
	flush()
	return dst
}

// roles are local parts of addresses that belong to a function and not a person.
var roles = map[string]bool{}

func init() {
	for _, w := range strings.Fields(`support info contact sales hello help admin office no-reply noreply postmaster webmaster abuse
		security privacy`) {
		roles[w] = true
	}
}

// roleAddress reports whether the local part of an address belongs to a function and not a person.
func roleAddress(local []byte) bool { return roles[strings.ToLower(string(local))] }
