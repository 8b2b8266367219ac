// Package labelled generates values and names that are known to be sensitive or not, with a majority of confusable
// ones, to measure the detectors. Everything is made up; equal seeds give equal sets.
package labelled

import (
	"encoding/base64"
	"encoding/hex"
	"fmt"
	"math/big"
	"math/rand/v2"
	"net/url"
	"strings"
)

// Value is a value and the detector that should recognise it, or the empty string.
type Value struct{ Text, Detector string }

// maker generates values from a source of randomness.
type maker struct{ *rand.Rand }

// Values generates n values of each kind, and about three times as many confusable ones.
func Values(seed uint64, n int) []Value {
	m := maker{rand.New(rand.NewPCG(seed, seed^0x9e3779b97f4a7c15))}
	var all []Value
	for _, k := range append(recognised[:len(recognised):len(recognised)], written...) {
		for range n {
			all = append(all, Value{k.make(m), k.detector})
		}
	}
	for range n {
		for _, make := range append(confusing[:len(confusing):len(confusing)], alike...) {
			all = append(all, Value{Text: make(m)})
		}
	}
	m.Shuffle(len(all), func(i, k int) { all[i], all[k] = all[k], all[i] })
	return all
}

func (m maker) pick(words ...string) string { return words[m.IntN(len(words))] }

func (m maker) from(alphabet string, n int) string {
	b := make([]byte, n)
	for i := range b {
		b[i] = alphabet[m.IntN(len(alphabet))]
	}
	return string(b)
}

const (
	digits  = "0123456789"
	hexes   = "0123456789abcdef"
	lowers  = "abcdefghijklmnopqrstuvwxyz"
	uppers  = "ABCDEFGHIJKLMNOPQRSTUVWXYZ"
	letters = lowers + uppers
	crypt   = "./" + letters + digits
	base    = letters + digits + "+/"
	baseURL = letters + digits + "-_"
)

func (m maker) given() string {
	return m.pick("Sol", "Ines", "Tamsin", "Ruark", "Odile", "Pell", "Marit", "Joss", "Vesna", "Corin", "Lida", "Bram")
}
func (m maker) family() string {
	return m.pick("Harrow", "Quill", "Askew", "Merrow", "Tarn", "Lisle", "Oster", "Pike", "Dovall", "Crane")
}

func (m maker) host() string {
	return m.pick("sails", "quay", "harbour", "moorings", "tides") + m.pick(".example", ".example.org", ".test",
		"-mail.example", ".co.example")
}

func (m maker) email() string {
	local := strings.ToLower(m.given()) + m.pick(".", "_", "", "+boat.") + strings.ToLower(m.family()) +
		m.pick("", m.from(digits, 2))
	return local + "@" + m.host()
}

// inText sometimes puts a value into a sentence.
func (m maker) inText(v string) string {
	return m.pick(v, v, v, "see "+v, "it is "+v+", really", "<"+v+">")
}

func (m maker) day() (y, mo, d int) { return 1940 + m.IntN(70), 1 + m.IntN(12), 1 + m.IntN(28) }

func (m maker) token() string {
	part := func(text string) string { return base64.RawURLEncoding.EncodeToString([]byte(text)) }
	return part(fmt.Sprintf(`{"alg":"%s","typ":"JWT"}`, m.pick("HS256", "RS256", "ES256"))) + "." +
		part(fmt.Sprintf(`{"sub":"%d","exp":%d}`, m.IntN(9999), 1700000000+m.IntN(1e8))) + "." + m.from(baseURL, 43)
}

func (m maker) bcrypt() string {
	return fmt.Sprintf("$2%s$%02d$%s", m.pick("a", "b", "y"), 8+m.IntN(6), m.from(crypt, 53))
}

// drawn generates a random token.
func (m maker) drawn() string {
	for {
		t := m.pick(m.from(baseURL, 22+m.IntN(30)), m.from(letters+digits, 24+m.IntN(20)),
			m.from(hexes, 40+8*m.IntN(4)))
		if strings.ContainsAny(t, digits) && t[0] != '-' && t[0] != '_' {
			return t
		}
	}
}

// WithCheckDigit adds the check digit of ISO/IEC 7812-1 to a number.
func WithCheckDigit(body string) string {
	sum := 0
	for i := range body {
		d := int(body[len(body)-1-i] - '0')
		if i%2 == 0 {
			if d *= 2; d > 9 {
				d -= 9
			}
		}
		sum += d
	}
	return body + string(rune('0'+(10-sum%10)%10))
}

func (m maker) card() string {
	n := m.pick(WithCheckDigit("4"+m.from(digits, 14)), WithCheckDigit(fmt.Sprintf("5%d", 1+m.IntN(5))+
		m.from(digits, 13)),
		WithCheckDigit("37"+m.from(digits, 12)))
	if len(n) == 16 && m.IntN(2) == 0 {
		s := m.pick(" ", "-")
		return n[:4] + s + n[4:8] + s + n[8:12] + s + n[12:]
	}
	return n
}

// iban adds the check digits of ISO 13616.
func (m maker) iban() string {
	country, bban := "DE", m.from(digits, 18)
	switch m.IntN(3) {
	case 1:
		country, bban = "NL", m.from(uppers, 4)+m.from(digits, 10)
	case 2:
		country, bban = "GB", m.from(uppers, 4)+m.from(digits, 14)
	}
	text := ""
	for _, c := range bban + country + "00" {
		if c >= 'A' {
			text += fmt.Sprint(c - 'A' + 10)
		} else {
			text += string(c)
		}
	}
	n, _ := new(big.Int).SetString(text, 10)
	out := fmt.Sprintf("%s%02d%s", country, 98-new(big.Int).Mod(n, big.NewInt(97)).Int64(), bban)
	if m.IntN(2) == 0 {
		return out
	}
	var groups []string
	for i := 0; i < len(out); i += 4 {
		groups = append(groups, out[i:min(i+4, len(out))])
	}
	return strings.Join(groups, " ")
}

func (m maker) phone() string {
	return m.pick(fmt.Sprintf("+44 1632 960%03d", m.IntN(1000)), fmt.Sprintf("+1 (555) 010-%04d", 100+m.IntN(100)),
		fmt.Sprintf("+4930%07d", m.IntN(1e7)), fmt.Sprintf("+31-20-555-%04d", m.IntN(10000)), "tel:+33"+
			m.from("123456789", 9))
}

// Countries lists the countries of [National].
var Countries = []string{"GB", "DE", "FR", "NL", "US", "SE"}

// National generates n phone numbers as written in each of [Countries], and as many confusable values.
func National(seed uint64, n int) []Value {
	m := maker{rand.New(rand.NewPCG(seed, seed^0x9e3779b97f4a7c15))}
	two := func() string { return m.from(digits, 2) }
	var all []Value
	for range n {
		for _, number := range []string{
			"01632 960" + m.from(digits, 3), "07700 900" + m.from(digits, 3), "(020) 7946 0" + m.from(digits, 3),
			"030 23125 " + m.from(digits, 3), "040/66969" + m.from(digits, 3), "0171-39200" + two(),
			"01 99 00 " + two() + " " + two(), "06.39.98." + two() + "." + two(), "0199000" + m.from(digits, 3),
			"020 " + m.from("123456789", 3) + " " + two() + two(), "085-" + m.from("123456789", 3) + two() + two(),
			"(" + m.from("23456789", 3) + ") 555-01" + two(), m.from("23456789", 3) + "-555-01" + two(),
			m.from("23456789", 3) + ".555.01" + two(),
			"08-465 004 " + two(), "070-174 06 " + two(),
		} {
			all = append(all, Value{number, "phone number"})
		}
		y, mo, d := m.day()
		for _, other := range []string{
			fmt.Sprintf("%04d-%02d-%02d", y, mo, d), fmt.Sprintf("%02d.%02d.%04d", d, mo, y),
			fmt.Sprintf("%02d/%02d/%04d", d, mo, y), fmt.Sprintf("%04d/%02d/%02d", y, mo, d),
			m.from("123456789", 9), fmt.Sprint(1700000000 + m.IntN(1e8)), fmt.Sprintf("%d.%07d", 10+m.IntN(80),
				m.IntN(1e7)), fmt.Sprintf("0.%09d", m.IntN(1e9)),
			fmt.Sprintf("%d %03d %03d", 1+m.IntN(9), m.IntN(1000), m.IntN(1000)), fmt.Sprintf("10.%d.%d.%d",
				10+m.IntN(80), 10+m.IntN(80), 10+m.IntN(80)), "978-3-16-" + m.from(digits, 6) + "-" + m.from(digits, 1),
			"00" + m.from(digits, 8), m.from("123456789", 4) + "-" + m.from(digits, 4), "FQ-0" + m.from(digits, 9),
			fmt.Sprintf("%02d-%02d", 10+m.IntN(80), m.IntN(90)), "9" + m.from(digits, 12), "(" + two() + ")", "01 -",
			"01632 96012 x7",
		} {
			all = append(all, Value{Text: other})
		}
	}
	return all
}

func (m maker) uuid() string {
	h := m.from(hexes, 32)
	return h[:8] + "-" + h[8:12] + "-4" + h[13:16] + "-" + m.pick("8", "9", "a", "b") + h[17:20] + "-" + h[20:]
}

// recognised generates values to be recognised, by detector.
var recognised = []struct {
	detector string
	make     func(m maker) string
}{
	{"bcrypt hash", func(m maker) string { return m.inText(m.bcrypt()) }},
	{"Argon2 hash", func(m maker) string {
		return fmt.Sprintf("$argon2%s$v=19$m=%d,t=%d,p=1$%s$%s", m.pick("id", "i", "d"), 4096*(1+m.IntN(16)),
			1+m.IntN(5), m.from(base, 22), m.from(base, 43))
	}},
	{"scrypt hash", func(m maker) string {
		return m.pick("$scrypt$ln=16,r=8,p=1$"+m.from(base, 22)+"$"+m.from(base, 43), "scrypt:32768:8:1$"+
			m.from(letters, 16)+"$"+m.from(hexes, 128))
	}},
	{"PBKDF2 hash", func(m maker) string {
		return m.pick(fmt.Sprintf("pbkdf2_sha256$%d$%s$%s=", 100000+m.IntN(900000), m.from(letters, 12),
			m.from(base, 43)), "pbkdf2:sha256:260000$"+m.from(letters, 8)+"$"+m.from(hexes, 64))
	}},
	{"crypt hash", func(m maker) string {
		return "$6$" + m.pick("", "rounds=5000$") + m.from(crypt, 12) + "$" + m.from(crypt, 86)
	}},
	{"yescrypt hash", func(m maker) string { return "$y$j9T$" + m.from(crypt, 22) + "$" + m.from(crypt, 43) }},
	{"signed token", func(m maker) string { return m.pick("", "", "Bearer ") + m.token() }},
	{"private key", func(m maker) string {
		kind := m.pick("", "RSA ", "EC ", "ENCRYPTED ", "OPENSSH ")
		return "-----BEGIN " + kind + "PRIVATE KEY-----\n" + m.from(base, 64) + "\n" + m.from(base, 64) +
			"\n-----END " + kind + "PRIVATE KEY-----\n"
	}},
	{"card number", func(m maker) string { return m.inText(m.card()) }},
	{"address with a password", func(m maker) string {
		return m.pick("postgres", "mysql", "redis", "amqp", "mongodb+srv", "https", "ftp") + "://" +
			m.pick("app", "harbour", "admin", "") + ":" + m.from(letters+digits, 8+m.IntN(12)) + "@" +
			m.pick("db.internal", "10.0.0.7", m.host()) + m.pick("", ":5432") + m.pick("", "/harbour", "/0?ssl=true")
	}},
	{"address with a token", func(m maker) string {
		return "https://" + m.host() + "/" + m.pick("reset", "invite", "files/7", "confirm") + "?" +
			m.pick("", "id=7&") + m.pick("token", "sig", "access_token", "X-Amz-Signature", "ticket", "key") + "=" +
			m.drawn() + m.pick("", "&lang=en", "#top")
	}},
	{"one-time password secret", func(m maker) string {
		return "otpauth://totp/Quay:" + url.PathEscape(m.email()) + "?secret=" +
			m.from("ABCDEFGHIJKLMNOPQRSTUVWXYZ234567", 32) + "&issuer=Quay"
	}},
	{"bearer token", func(m maker) string { return "Bearer " + m.drawn() }},
	{"basic credentials", func(m maker) string {
		return "Basic " + base64.StdEncoding.EncodeToString([]byte(strings.ToLower(m.given())+":"+m.from(letters+digits,
			8+m.IntN(8))))
	}},
	{"session cookie", func(m maker) string {
		return m.pick("session", "sid", "connect.sid", "desk_session") + "=" + m.drawn() + "; Path=/" +
			m.pick("", "; HttpOnly", "; Secure; HttpOnly; SameSite=Lax")
	}},
	{"connection string", func(m maker) string {
		return "Server=" + m.pick("db.internal", "tcp:sql.example,1433") + ";Database=harbour;" +
			m.pick("User Id", "Uid") + "=app;" + m.pick("Password", "Pwd") + "=" + m.from(letters+digits, 12) +
			";Encrypt=true"
	}},
	{"access key", func(m maker) string {
		return m.inText(m.pick("AKIA"+m.from(uppers+digits, 16), "ghp_"+m.from(letters+digits, 36), "sk_live_"+
			m.from(letters+digits, 24), "AIza"+m.from(baseURL, 34)+m.from(letters, 1), "glpat-"+m.from(letters+digits,
			20)))
	}},
	{"e-mail address", func(m maker) string { return m.inText(m.email()) }},
	{"phone number", maker.phone},
	{"IBAN", func(m maker) string { return m.inText(m.iban()) }},
	{"IP address", func(m maker) string {
		return m.pick(fmt.Sprintf("%d.%d.%d.%d", 40+m.IntN(80), m.IntN(256), m.IntN(256), m.IntN(256)),
			fmt.Sprintf("2001:db8:%x:%x::%x", m.IntN(65536), m.IntN(65536), 1+m.IntN(65535)),
			fmt.Sprintf("203.0.113.%d", m.IntN(256)))
	}},
	{"hardware address", func(m maker) string {
		s := m.pick(":", "-")
		pairs := make([]string, 6)
		for i := range pairs {
			pairs[i] = m.from(hexes, 2)
		}
		pairs[0] = "a" + m.from(hexes, 1)
		return m.pick(strings.Join(pairs, s), strings.ToUpper(strings.Join(pairs, s)))
	}},
	{"coordinates", func(m maker) string {
		return fmt.Sprintf("%.6f%s%.6f", m.Float64()*160-80+0.0000011, m.pick(", ", ",", ";", " "), m.Float64()*340-170+
			0.0000011)
	}},
	{"postal address", func(m maker) string {
		n := 1 + m.IntN(199)
		return m.pick(fmt.Sprintf("%d %s Street, %s AB1 %dCD", n, m.family(), "Fennick", 1+m.IntN(9)),
			fmt.Sprintf("%sstraße %d, %05d Hafenstadt", m.family(), n, 10000+m.IntN(89999)),
			fmt.Sprintf("%d Old Quay Road, Fennick, FQ%d %dAB", n, 1+m.IntN(20), 1+m.IntN(9)),
			fmt.Sprintf("rue du %s %d, %05d Portville", m.family(), n, 10000+m.IntN(80000)),
			fmt.Sprintf("%skade %d\n%d %s Havenstad", m.family(), n, 1000+m.IntN(8999), m.from(uppers, 2)))
	}},
	{"Spanish identity number", func(m maker) string {
		n := m.IntN(100_000_000)
		return fmt.Sprintf("%08d%s%c", n, m.pick("", "-"), "TRWAGMYFPDXBNJZSQVHLCKE"[n%23])
	}},
	{"Italian tax code", func(m maker) string {
		v := m.from("BCDFGLMNPRSTVZ", 6) + fmt.Sprintf("%02d%c%02d", m.IntN(100), "ABCDEHLMPRST"[m.IntN(12)],
			1+m.IntN(28)) + m.from("ABCDEFGH", 1) + m.from(digits, 3)
		odd := "BAKPLCQDREVOSFTGUHMINJWZYX" // the letter whose place in the alphabet is the value
		value := func(c byte, isOdd bool) int {
			n := int(c - 'A')
			if c <= '9' {
				n = int(c - '0')
			}
			if !isOdd {
				return n
			}
			return strings.IndexByte(odd, byte('A'+n))
		}
		sum := 0
		for i := range v {
			sum += value(v[i], i%2 == 0)
		}
		return v + string(rune('A'+sum%26))
	}},
	{"French insurance number", func(m maker) string {
		v := m.pick("1", "2") + fmt.Sprintf("%02d%02d%02d%03d%03d", m.IntN(100), 1+m.IntN(12), 1+m.IntN(95),
			1+m.IntN(989), 1+m.IntN(998))
		n, _ := new(big.Int).SetString(v, 10)
		v += fmt.Sprintf("%02d", 97-new(big.Int).Mod(n, big.NewInt(97)).Int64())
		if m.IntN(2) == 0 {
			return v
		}
		return v[:1] + " " + v[1:3] + " " + v[3:5] + " " + v[5:7] + " " + v[7:10] + " " + v[10:13] + " " + v[13:]
	}},
	{"Swedish personal number", func(m maker) string {
		y, mo, d := m.day()
		v := WithCheckDigit(fmt.Sprintf("%02d%02d%02d%03d", y%100, mo, d, m.IntN(1000)))
		return m.pick("", "19") + v[:6] + "-" + v[6:]
	}},
	{"Finnish personal code", func(m maker) string {
		for {
			y, mo, d := m.day()
			day, serial := fmt.Sprintf("%02d%02d%02d", d, mo, y%100), fmt.Sprintf("%03d", 2+m.IntN(898))
			var n int
			fmt.Sscanf(day+serial, "%d", &n)
			check := "0123456789ABCDEFHJKLMNPRSTUVWXY"[n%31]
			// else it would be a Swedish number just as well
			if WithCheckDigit(day+serial) != day+serial+string(check) {
				return day + "-" + serial + string(check)
			}
		}
	}},
	{"Polish identity number", func(m maker) string {
		y, mo, d := m.day()
		v := fmt.Sprintf("%02d%02d%02d%04d", y%100, mo, d, m.IntN(10000))
		sum := 0
		for i, w := range []int{1, 3, 7, 9, 1, 3, 7, 9, 1, 3} {
			sum += int(v[i]-'0') * w
		}
		return v + fmt.Sprint((10-sum%10)%10)
	}},
	{"Norwegian identity number", func(m maker) string {
		for {
			y, mo, d := m.day()
			v := fmt.Sprintf("%02d%02d%02d%03d", d, mo, y%100, m.IntN(500))
			check := func(weights ...int) int {
				sum := 0
				for i, w := range weights {
					sum += int(v[i]-'0') * w
				}
				return (11 - sum%11) % 11
			}
			k1 := check(3, 7, 6, 1, 8, 9, 4, 5, 2)
			if k1 == 10 {
				continue
			}
			v += fmt.Sprint(k1)
			if k2 := check(5, 4, 3, 2, 7, 6, 5, 4, 3, 2); k2 < 10 {
				return v + fmt.Sprint(k2)
			}
		}
	}},
	{"Brazilian tax number", func(m maker) string {
		v := m.from(digits, 8) + m.from("123456789", 1)
		for n := 9; n < 11; n++ {
			sum := 0
			for i := range n {
				sum += int(v[i]-'0') * (n + 1 - i)
			}
			v += fmt.Sprint(sum * 10 % 11 % 10)
		}
		return v[:3] + "." + v[3:6] + "." + v[6:9] + "-" + v[9:]
	}},
	{"British insurance number", func(m maker) string {
		v := m.pick("AB", "CE", "GH", "JK", "LM", "PR", "ST", "WX", "YZ")
		v += m.from(digits, 6) + m.from("ABCD", 1)
		return m.pick(v, v[:2]+" "+v[2:4]+" "+v[4:6]+" "+v[6:8]+" "+v[8:])
	}},
	{"Belgian national number", func(m maker) string {
		y, mo, d := m.day()
		serial := 1 + m.IntN(997)
		n := ((y%100*100+mo)*100+d)*1000 + serial
		return fmt.Sprintf("%02d.%02d.%02d-%03d.%02d", y%100, mo, d, serial, 97-n%97)
	}},
	{"Swiss insurance number", func(m maker) string {
		v := "756" + m.from(digits, 9)
		sum := 0
		for i := range v {
			sum += int(v[i]-'0') * (1 + 2*(i%2))
		}
		v += fmt.Sprint((10 - sum%10) % 10)
		return v[:3] + "." + v[3:7] + "." + v[7:11] + "." + v[11:]
	}},
	{"e-mail address, encoded", func(m maker) string {
		text := m.email()
		for len(text) < 12 {
			text += "m"
		}
		return m.pick(base64.StdEncoding.EncodeToString([]byte("user="+text)), url.QueryEscape("user "+text+" 7"),
			hex.EncodeToString([]byte("mail "+text)))
	}},
	{"signed token, encoded",
		func(m maker) string { return base64.StdEncoding.EncodeToString([]byte("t=" + m.token())) }},
}

// confusing generates values that look sensitive and are not.
var confusing = []func(m maker) string{
	func(m maker) string { return m.from(hexes, m.pick32()) },                        // a hash of content
	func(m maker) string { return m.pick("sha256:", "sha256-") + m.from(hexes, 64) }, // and one that says so
	func(m maker) string { return base64.StdEncoding.EncodeToString([]byte(m.bytes(32))) },
	maker.uuid,
	func(m maker) string { return strings.ToUpper(m.uuid()) },
	func(m maker) string { return strings.ReplaceAll(m.uuid(), "-", "") },
	func(m maker) string { return "#" + m.from(hexes, 6) },
	func(m maker) string {
		return fmt.Sprintf("rgba(%d, %d, %d, 0.%d)", m.IntN(256), m.IntN(256), m.IntN(256), m.IntN(10))
	},
	func(m maker) string { return fmt.Sprintf("%d.%d.%d", m.IntN(20), m.IntN(40), m.IntN(100)) },
	func(m maker) string {
		return fmt.Sprintf("%d.%d.%d.%d", m.IntN(12), m.IntN(30), m.IntN(30), m.IntN(30))
	},
	func(m maker) string {
		return fmt.Sprintf("v%d.%d.%d-rc.%d+build.%d", m.IntN(9), m.IntN(9), m.IntN(9), m.IntN(9), m.IntN(9999))
	},
	func(m maker) string {
		return fmt.Sprintf("978-%d-%05d-%03d-%d", m.IntN(10), m.IntN(100000), m.IntN(1000), m.IntN(10))
	},
	func(m maker) string { return "978" + m.from(digits, 10) },
	func(m maker) string { return "40" + m.from(digits, 11) },                          // an article number
	func(m maker) string { return fmt.Sprintf("FQ-%05d", m.IntN(100000)) },             // an order
	func(m maker) string { return fmt.Sprintf("INV-2026-%06d", m.IntN(1e6)) },          //
	func(m maker) string { return fmt.Sprintf("%013d", 1700000000000+m.Int64N(1e11)) }, // a time in milliseconds
	func(m maker) string { return fmt.Sprint(1700000000 + m.IntN(1e8)) },               // and in seconds
	func(m maker) string {
		y, mo, d := m.day()
		return fmt.Sprintf("%04d-%02d-%02dT%02d:%02d:%02dZ", y, mo, d, m.IntN(24), m.IntN(60), m.IntN(60))
	},
	func(m maker) string { y, mo, d := m.day(); return fmt.Sprintf("%04d%02d%02d", y, mo, d) },
	func(m maker) string { y, mo, d := m.day(); return fmt.Sprintf("%02d.%02d.%04d", d, mo, y) },
	func(m maker) string { return fmt.Sprintf(`W/"%s"`, m.from(hexes, 32)) },
	func(m maker) string { return `"` + m.from(hexes, 16) + "-" + m.from(hexes, 6) + `"` },
	func(m maker) string { return "data:image/png;base64,iVBORw0KGgo" + m.from(base, 200) },
	func(m maker) string { return m.pick("img", "icon", "logo") + "@" + m.pick("2x", "3x") + ".png" },
	func(m maker) string {
		return m.pick("lodash", "left-pad", "@scope/pkg") + "@" + fmt.Sprintf("%d.%d.%d", m.IntN(9), m.IntN(9),
			m.IntN(9))
	},
	func(m maker) string { return "@" + strings.ToLower(m.given()+m.family()) },
	func(m maker) string { return strings.ToLower(m.given()) + "@localhost" },
	func(m maker) string {
		return m.given() + " " + m.family() + ", " + m.pick("skipper", "deck hand", "harbour master")
	},
	func(m maker) string {
		return fmt.Sprintf("%d guests at %d:%02d, berth %c%02d", m.IntN(9), m.IntN(24), m.IntN(60), 'A'+m.IntN(6),
			m.IntN(30))
	},
	func(m maker) string {
		return fmt.Sprintf("https://%s/v1/bookings/%d?page=%d&sort=-arrives_on", m.host(), m.IntN(9999), m.IntN(99))
	},
	func(m maker) string {
		return "https://" + m.host() + "/assets/app-" + m.from(hexes, 8) + ".js?v=" + m.from(hexes, 7)
	},
	func(m maker) string {
		return "https://" + m.host() + "/berths?token=" + m.pick("none", "week", "abc", "1")
	},
	func(m maker) string {
		return "postgres://app:" + m.pick("****", "${DB_PASSWORD}", "<password>", "xxxxx") + "@db.internal/harbour"
	},
	func(m maker) string {
		return "https://" + m.host() + ":" + fmt.Sprint(8000+m.IntN(999)) + "/@" + strings.ToLower(m.given())
	},
	func(m maker) string { return "Bearer " + m.pick("token", "of bad news", "realm", "<token>") },
	func(m maker) string { return "Basic " + m.pick("plan", "membership", "rules 12") },
	func(m maker) string { return "theme=dark; Path=/; SameSite=Lax" },
	func(m maker) string {
		return "lang=" + m.pick("en", "de", "nl") + "; Path=/; Max-Age=" + m.from("123456789", 5)
	},
	func(m maker) string { return "Server=db.internal;Database=harbour;Integrated Security=true" },
	func(m maker) string { return "color: #fff; margin: 0 " + m.from("123456789", 1) + "px; width=100" },
	func(m maker) string { return m.broken(m.card()) },
	func(m maker) string { return "order " + m.broken(WithCheckDigit(m.from("123456789", 15))) },
	func(m maker) string { return m.broken(strings.ReplaceAll(m.iban(), " ", "")) },
	func(m maker) string { return m.pick("DE", "NL", "GB", "SKU", "REF") + m.from(digits, 12) },
	func(m maker) string { return m.pick("10.", "192.168.", "127.0.", "172.16.") + m.pick("0.1", "1.20") },
	func(m maker) string { return fmt.Sprintf("%d:%02d:%02d", m.IntN(24), m.IntN(60), m.IntN(60)) },
	func(m maker) string { return fmt.Sprintf("%.2f, %.2f", m.Float64()*90, m.Float64()*90) },
	func(m maker) string { return fmt.Sprintf("%.3f", m.Float64()*1000) },
	func(m maker) string { return fmt.Sprintf("+%d.%02d", m.IntN(99), m.IntN(99)) },
	func(m maker) string { return fmt.Sprintf("01632 960%03d", m.IntN(1000)) }, // no country is told
	func(m maker) string { return m.from(digits, 8) + string("TRWAGMYFPDXBNJZSQVHLCKE"[m.IntN(3)]) + "X" },
	func(m maker) string { return m.from("13579", 9) },
	func(m maker) string { return m.from(uppers, 3) + "-" + m.from(digits, 4) + "-" + m.from(uppers, 2) },
	func(m maker) string { return strings.Repeat(m.pick("ab", "lorem ", "x1"), 4+m.IntN(10)) },
	func(m maker) string { return "/srv/app/releases/" + m.from(digits, 14) + "/public/index.html" },
	func(m maker) string { return "arn:quay:berths:" + m.from(digits, 12) + ":berth/" + m.from(hexes, 8) },
	func(m maker) string { return "urn:uuid:" + m.uuid() },
	func(m maker) string { return `{"page":` + m.from("123456789", 2) + `,"sort":"day"}` },
	func(m maker) string {
		return base64.StdEncoding.EncodeToString([]byte(fmt.Sprintf("cursor:%d:%d", m.IntN(9999), m.IntN(9999))))
	},
	func(m maker) string { return url.QueryEscape("berths in May & June: " + m.from(digits, 3)) },
	func(m maker) string {
		return "-----BEGIN " + m.pick("CERTIFICATE", "PUBLIC KEY") + "-----\n" + m.from(base, 64) +
			"\n-----END CERTIFICATE-----"
	},
	func(m maker) string {
		return base64.RawURLEncoding.EncodeToString([]byte(`{"not":"a header"}`)) + ".e30." + m.from(baseURL, 12)
	},
	func(m maker) string { return fmt.Sprintf("costs $%d, or $%d.50 with power", m.IntN(90), m.IntN(90)) },
	func(m maker) string {
		return "$2" + m.pick("x", "z", "0") + "$" + m.from(digits, 2) + "$" + m.from(crypt, 30)
	},
	func(m maker) string { return fmt.Sprintf("%d Oak Street", 1+m.IntN(99)) + " festival" },
	func(m maker) string { return fmt.Sprintf("Weg %d, %d km", m.IntN(99), m.IntN(99)) },
	func(m maker) string { return fmt.Sprintf("%d m, draught %d.%d m", m.IntN(60), m.IntN(4), m.IntN(9)) },
	func(m maker) string { return fmt.Sprintf("XX-FQY%05dK%03d", m.IntN(1e5), m.IntN(1000)) },
	func(m maker) string { return fmt.Sprintf("COVER-%06d", m.IntN(1e6)) },
	func(m maker) string { return "text/html; charset=utf-8; boundary=" + m.from(hexes, 12) },
	func(m maker) string {
		return "Mozilla/5.0 (X11; Linux x86_64) AppleWebKit/537.36 Chrome/" + fmt.Sprint(100+m.IntN(40)) + ".0.0.0"
	},
	// an identifier that sorts by time
	func(m maker) string { return "01" + m.from("ABCDEFGHJKMNPQRSTVWXYZ0123456789", 24) },
	func(m maker) string { return m.from(lowers, 25) },
	// an identifier with its kind
	func(m maker) string { return m.pick("quay", "berth") + "_" + m.from(letters+digits, 14) },
}

func (m maker) pick32() int { return []int{32, 40, 64}[m.IntN(3)] }

func (m maker) bytes(n int) string {
	b := make([]byte, n)
	for i := range b {
		b[i] = byte(m.IntN(256))
	}
	b[0] |= 0x80 // no text
	return string(b)
}

// broken changes the last digit, which breaks the check.
func (m maker) broken(v string) string {
	last := v[len(v)-1]
	return v[:len(v)-1] + string(rune('0'+(last-'0'+1+byte(m.IntN(8)))%10))
}

// Name is a member name and its class, or none.
type Name struct{ Text, Class string }

// Names generates n names of each kind in each casing: telling ones, and ones that another word turns harmless.
func Names(seed uint64, n int) []Name {
	m := maker{rand.New(rand.NewPCG(seed, seed^0x9e3779b97f4a7c15))}
	secret := [][]string{{"password"}, {"password", "hash"}, {"user", "password"}, {"api", "key"}, {"client", "secret"},
		{"refresh", "token"}, {"private", "key"}, {"session", "id"}, {"totp", "secret"}, {"card", "number"},
		{"recovery", "codes"}, {"old", "pin"}}
	personal := [][]string{{"email"}, {"billing", "email"}, {"phone", "number"}, {"date", "of", "birth"}, {"iban"},
		{"home", "address"}, {"passport", "number"}, {"last", "name"}, {"tax", "id"}, {"owner", "mobile"},
		{"nationality"}, {"geburtsdatum"}, {"codice", "fiscale"}}
	none := [][]string{{"password", "changed", "at"}, {"has", "password"}, {"token", "count"}, {"token", "type"},
		{"email", "verified"}, {"is", "phone", "confirmed"}, {"public", "key"}, {"csrf", "token"},
		{"next", "page", "token"}, {"email", "template"}, {"address", "count"},
		{"berth", "label"}, {"arrives", "on"}, {"pinned"}, {"passage"}, {"secretary"}, {"compass", "bearing"}, {"key"},
		{"code"}, {"hash", "algorithm"}, {"session", "count"}, {"tokenizer"}, {"emailed", "at"}, {"max", "tokens"},
		{"name"}, {"card", "layout"}, {"phone", "model"}, {"password", "policy"}}
	var all []Name
	for range n {
		for class, lists := range map[string][][]string{"secret": secret, "personal": personal, "": none} {
			for _, words := range lists {
				all = append(all, Name{m.cased(words), class})
			}
		}
	}
	return all
}

// cased writes words in one of the usual casings.
func (m maker) cased(words []string) string {
	switch m.IntN(5) {
	case 0:
		return strings.Join(words, "_")
	case 1:
		return strings.Join(words, "-")
	case 2:
		return strings.ToUpper(strings.Join(words, "_"))
	case 3:
		out := words[0]
		for _, w := range words[1:] {
			out += strings.ToUpper(w[:1]) + w[1:]
		}
		return out
	}
	out := ""
	for _, w := range words {
		out += strings.ToUpper(w[:1]) + w[1:]
	}
	return out
}
