package detect

import "bytes"

// Hashes of passwords, as programs store them: fields between dollar signs behind a mark. The forms are those of
// modular crypt (crypt(5)), the PHC string format, SCRAM verifiers (RFC 5803), and of web frameworks that write scheme
// and cost in front.

// letters is a set of bytes, as bits of letterSets.
type letters uint16

const (
	figures letters = 1 << iota
	hexadecimal
	cryptLetters  // ./A-Za-z0-9
	base64Letters // both alphabets of RFC 4648, full stop and padding
	settingLetters
	anyLetter // but spaces and the dollar sign
	plainLetter
)

// letterSets holds for every byte the sets that contain it.
var letterSets = func() (t [256]letters) {
	for i := range t {
		c := byte(i)
		plain := letterOrDigit(c)
		for set, holds := range map[letters]bool{
			figures:        digit(c),
			hexadecimal:    digit(c) || c|0x20 >= 'a' && c|0x20 <= 'f',
			cryptLetters:   plain || c == '.' || c == '/',
			base64Letters:  plain || bytes.IndexByte([]byte("+/._-="), c) >= 0,
			settingLetters: plain || bytes.IndexByte([]byte("=,+/._-"), c) >= 0,
			anyLetter:      c > ' ' && c != '$',
			plainLetter:    plain,
		} {
			if holds {
				t[i] |= set
			}
		}
	}
	return t
}()

// run returns the end of the bytes of a set from one on.
func (set letters) run(v []byte, from int) int {
	for from < len(v) && letterSets[v[from]]&set != 0 {
		from++
	}
	return from
}

// field is what stands between two dollar signs.
type field struct {
	of          letters
	least, most int    // bytes; most 0 is no bound
	begins      string // with this
	optional    bool
}

// hashForm is a notation of password hashes. The last field may be followed by anything.
type hashForm struct {
	name   string
	mark   string // up to the first dollar sign that fields follow, that included
	fields []field
}

// hashForms lists the notations by their marks. A mark that begins with a dollar sign is found by it; others stand
// before one.
var hashForms = func() (all []hashForm) {
	add := func(name string, marks []string, fields ...field) {
		for _, m := range marks {
			all = append(all, hashForm{name, m, fields})
		}
	}
	exactly := func(of letters, n int) field { return field{of: of, least: n, most: n} }
	salt := field{of: anyLetter, least: 1, most: 64}
	add("bcrypt hash", []string{"$2$", "$2a$", "$2b$", "$2x$", "$2y$"}, exactly(figures, 2), field{of: cryptLetters,
		least: 53})
	add("Argon2 hash", []string{"$argon2id$", "$argon2i$", "$argon2d$"},
		field{of: settingLetters, least: 3, begins: "v=", optional: true}, field{of: settingLetters, least: 3},
		field{of: base64Letters, least: 8})
	add("scrypt hash", []string{"$scrypt$"}, field{of: settingLetters, least: 12, begins: "ln="},
		field{of: base64Letters}, field{of: base64Letters, least: 16})
	add("scrypt hash", []string{"$scrypt$"}, field{of: hexadecimal, least: 2}, field{of: base64Letters, least: 11},
		field{of: base64Letters, least: 16})
	add("scrypt hash", []string{"scrypt:#:#:#$"}, salt, field{of: hexadecimal, least: 32})
	add("scrypt hash", []string{"scrypt$", "SCRYPT$"}, salt, field{of: figures, least: 1}, field{of: figures, least: 1},
		field{of: figures, least: 1}, field{of: base64Letters, least: 16})
	add("scrypt hash", []string{"$7$"}, field{of: anyLetter, least: 11, most: 75}, field{of: cryptLetters, least: 43})
	add("PBKDF2 hash", []string{"pbkdf2_sha1$", "pbkdf2_sha256$", "pbkdf2_sha512$", "pbkdf2-sha1$", "pbkdf2-sha256$",
		"pbkdf2-sha512$"}, field{of: figures, least: 1}, salt, field{of: base64Letters, least: 20})
	add("PBKDF2 hash", []string{"$pbkdf2$", "$pbkdf2-sha1$", "$pbkdf2-sha256$", "$pbkdf2-sha512$"},
		field{of: settingLetters, least: 1}, field{of: base64Letters, least: 1}, field{of: base64Letters, least: 20})
	add("PBKDF2 hash", []string{"pbkdf2:sha1$", "pbkdf2:sha256$", "pbkdf2:sha512$", "pbkdf2:sha1:#$",
		"pbkdf2:sha256:#$", "pbkdf2:sha512:#$"}, salt, field{of: hexadecimal, least: 40})
	add("PBKDF2 hash", []string{"{PBKDF2}#$", "{PBKDF2-SHA1}#$", "{PBKDF2-SHA256}#$", "{PBKDF2-SHA512}#$"},
		field{of: base64Letters, least: 1}, field{of: base64Letters, least: 20})
	add("crypt hash", []string{"$1$", "$apr1$"}, field{of: anyLetter, least: 1, most: 8}, field{of: cryptLetters,
		least: 22})
	rounds := field{of: settingLetters, least: 8, begins: "rounds=", optional: true}
	add("crypt hash", []string{"$5$"}, rounds, field{of: anyLetter, least: 1, most: 16}, field{of: cryptLetters,
		least: 43})
	add("crypt hash", []string{"$6$"}, rounds, field{of: anyLetter, least: 1, most: 16}, field{of: cryptLetters,
		least: 86})
	add("yescrypt hash", []string{"$y$", "$gy$"}, field{of: cryptLetters, least: 1}, field{of: cryptLetters, least: 1,
		most: 86}, field{of: cryptLetters, least: 43})
	add("phpass hash", []string{"$P$", "$H$"}, field{of: cryptLetters, least: 31})
	add("salted hash", []string{"md5$", "sha1$", "sha256$", "sha512$"}, field{of: plainLetter, least: 1, most: 64},
		field{of: hexadecimal, least: 32})
	add("SCRAM verifier", []string{"SCRAM-SHA-1$#:", "SCRAM-SHA-256$#:", "SCRAM-SHA-512$#:"},
		field{of: base64Letters, least: 12}, field{of: base64Letters, least: 27})
	return all
}()

// hashesAt holds the forms that begin with a dollar sign, by the byte behind it; those that do not stand at 0.
var hashesAt = func() (t [256][]*hashForm) {
	for i := range hashForms {
		at := byte(0)
		if f := &hashForms[i]; f.mark[0] == '$' {
			at = f.mark[1]
		}
		t[at] = append(t[at], &hashForms[i])
	}
	return t
}()

// passwordHash finds a password hash anywhere in v.
func passwordHash(v []byte) Hit {
	for from := 0; ; {
		i := bytes.IndexByte(v[from:], '$')
		if i < 0 {
			return Hit{}
		}
		at := from + i
		if at+1 < len(v) && v[at+1] != 0 {
			for _, f := range hashesAt[v[at+1]] {
				if end := f.match(v, at); end > 0 {
					return secret(f.name, at, end)
				}
			}
		}
		if start := schemeBefore(v, from, at); start < at {
			for _, f := range hashesAt[0] {
				if end := f.match(v, start); end > 0 {
					return secret(f.name, start, end)
				}
			}
		}
		from = at + 1
	}
}

// longestScheme is more than the length of any scheme and cost before a dollar sign.
const longestScheme = 48

// schemeBefore returns where the word before a dollar sign begins, but not before from.
func schemeBefore(v []byte, from, at int) int {
	start := at
	for start > from && at-start < longestScheme && (letterOrDigit(v[start-1]) ||
		bytes.IndexByte([]byte(":_-{}"), v[start-1]) >= 0) {
		start--
	}
	return start
}

// match returns the end of the hash that begins at a byte, or 0. A # in a mark is a number.
func (f *hashForm) match(v []byte, at int) int {
	for i := range len(f.mark) {
		if f.mark[i] != '#' {
			if at >= len(v) || v[at] != f.mark[i] {
				return 0
			}
			at++
			continue
		}
		end := figures.run(v, at)
		if end == at {
			return 0
		}
		at = end
	}
	for i := range f.fields {
		d := &f.fields[i]
		end := d.of.run(v, at)
		n := end - at
		fits := n >= d.least && (d.most == 0 || n <= d.most) && bytes.HasPrefix(v[at:end], []byte(d.begins))
		if last := i == len(f.fields)-1; last && fits {
			return end
		} else if last || !fits || end == len(v) || v[end] != '$' {
			if d.optional {
				continue
			}
			return 0
		}
		at = end + 1
	}
	return 0
}

// directorySchemes are what directories write before the base64 of a hash (RFC 2307 and its extensions).
var directorySchemes = [][]byte{[]byte("{SSHA}"), []byte("{SHA}"), []byte("{SMD5}"), []byte("{MD5}"),
	[]byte("{SSHA256}"), []byte("{SSHA384}"), []byte("{SSHA512}"), []byte("{SHA256}"), []byte("{SHA512}")}

// directoryHash finds a password hash as directories keep it.
func directoryHash(v []byte) Hit {
	for from := 0; ; {
		i := bytes.IndexByte(v[from:], '{')
		if i < 0 {
			return Hit{}
		}
		at := from + i
		for _, s := range directorySchemes {
			if !bytes.HasPrefix(v[at:], s) {
				continue
			}
			const shortest = 22 // the base64 of 16 bytes
			if end := base64Letters.run(v, at+len(s)); end-at-len(s) >= shortest {
				return secret("directory hash", at, end)
			}
		}
		from = at + 1
	}
}
