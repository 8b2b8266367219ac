package detect

import (
	"bytes"
	"encoding/base64"
	"encoding/hex"
	"net/netip"
	"net/url"
	"strconv"
)

// Locations of people and devices: network addresses, postal addresses, coordinates. Also values behind an
// encoding.

// longestAddress is the length of the longest IPv6 address.
const longestAddress = len("ffff:ffff:ffff:ffff:ffff:ffff:255.255.255.255")

// hardwareAddress recognises a whole value that is a hardware address.
func hardwareAddress(v []byte) Hit {
	if hardware(v) {
		return personal("hardware address", "mac", 0, len(v))
	}
	return Hit{}
}

// networkAddress recognises a whole value that is a public IP address.
func networkAddress(v []byte) Hit {
	if !maybeNetwork(v) {
		return Hit{}
	}
	a, err := netip.ParseAddr(string(v))
	if err != nil || a.Zone() != "" || a.IsPrivate() || a.IsLoopback() || a.IsUnspecified() || a.IsMulticast() ||
		a.IsLinkLocalUnicast() {
		return Hit{}
	}
	if a.Is4() {
		b := a.As4()
		if b[0] < 32 && b[1] < 32 && b[2] < 32 && b[3] < 32 || b[0] >= 224 { // as a version of four numbers is written
			return Hit{}
		}
		return personal("IP address", "ipv4", 0, len(v))
	}
	if bytes.Count(v, []byte(":")) < 3 {
		return Hit{}
	}
	return personal("IP address", "ipv6", 0, len(v))
}

// maybeNetwork cheaply excludes values that are no IP address.
func maybeNetwork(v []byte) bool {
	dots, colons, letters := 0, 0, false
	for _, c := range v {
		switch {
		case c == '.':
			dots++
		case c == ':':
			colons++
		case c|0x20 >= 'a' && c|0x20 <= 'f':
			letters = true
		case !digit(c):
			return false
		}
	}
	return dots == 3 && !letters && colons == 0 || colons >= 3
}

func hardware(v []byte) bool {
	if len(v) != 17 || v[2] != ':' && v[2] != '-' {
		return false
	}
	letters, zeros := false, true
	for i, c := range v {
		switch {
		case i%3 == 2:
			if c != v[2] {
				return false
			}
		case digit(c):
			zeros = zeros && c == '0'
		case c|0x20 >= 'a' && c|0x20 <= 'f':
			letters, zeros = true, false
		default:
			return false
		}
	}
	return !zeros && (letters || v[2] == ':')
}

// position recognises a whole value that is latitude and longitude in degrees, precise to a few metres.
func position(v []byte) Hit {
	rest, ok := degrees(v, 2)
	if !ok {
		return Hit{}
	}
	between := bytes.TrimPrefix(rest, []byte(" "))
	if len(between) > 0 && (between[0] == ',' || between[0] == ';') {
		between = bytes.TrimPrefix(between[1:], []byte(" "))
	} else if len(between) == len(rest) {
		return Hit{}
	} else {
		between = bytes.TrimPrefix(between, []byte(" "))
	}
	if rest, ok = degrees(between, 3); !ok || len(rest) > 0 {
		return Hit{}
	}
	i := bytes.IndexAny(v, ",; ")
	lat, err1 := strconv.ParseFloat(string(bytes.TrimSpace(v[:i])), 64)
	lon, err2 := strconv.ParseFloat(string(bytes.Trim(v[i:], ",; ")), 64)
	if err1 != nil || err2 != nil || lat < -90 || lat > 90 || lon < -180 || lon > 180 || lat == 0 && lon == 0 {
		return Hit{}
	}
	return personal("coordinates", "coordinates", 0, len(v))
}

// degrees reads a number with at most so many digits before the point, and five and more behind it.
func degrees(v []byte, most int) (rest []byte, ok bool) {
	if len(v) > 0 && (v[0] == '-' || v[0] == '+') {
		v = v[1:]
	}
	n := figures.run(v, 0)
	if n < 1 || n > most || n >= len(v) || v[n] != '.' {
		return nil, false
	}
	const precise = 5
	end := figures.run(v, n+1)
	return v[end:], end-n-1 >= precise
}

const (
	shortestEncoded = 16
	longestEncoded  = 64 << 10
)

// encoded recognises values behind base64, hexadecimal or URL encoding, one level deep.
func encoded(v []byte) Hit {
	if len(v) > longestEncoded {
		return Hit{}
	}
	plain := decoded(v)
	if plain == nil {
		return Hit{}
	}
	t := TraitsOf(plain)
	hit := dueTables.due(len(plain), t).recognise(plain)
	if hit.Found() {
		hit.Detector += ", encoded"
		hit.Format, hit.at, hit.end = "", 0, len(v)
	}
	return hit
}

// decoded decodes a value if the result is text; otherwise nil.
func decoded(v []byte) []byte {
	letters, escaped, hexed := true, bytes.IndexByte(v, '%') >= 0, len(v)%2 == 0
	for _, c := range v {
		switch {
		case c == '%':
			letters = false
		case c == '+' || c == '/' || c == '-' || c == '_' || c == '=':
			hexed = false
		case !letterOrDigit(c):
			letters, hexed = false, false
			if !escaped || c <= ' ' || c >= 0x7f {
				return nil
			}
		case c|0x20 > 'f' && !digit(c):
			hexed = false
		}
	}
	switch {
	case escaped:
		if plain, err := url.PathUnescape(string(v)); err == nil && len(plain) < len(v) {
			return textOf([]byte(plain))
		}
	case letters && hexed:
		for i := 0; i < 16; i += 2 { // most of it is no text, which is soon seen
			if c := nibble(v[i])<<4 | nibble(v[i+1]); c < ' ' && c != '\n' && c != '\r' && c != '\t' || c >= 0x7f {
				return nil
			}
		}
		plain := make([]byte, hex.DecodedLen(len(v)))
		if _, err := hex.Decode(plain, v); err == nil {
			return textOf(plain)
		}
	case letters && beginsAsText(v):
		for _, e := range []*base64.Encoding{base64.StdEncoding, base64.RawURLEncoding, base64.URLEncoding,
			base64.RawStdEncoding} {
			plain := make([]byte, e.DecodedLen(len(v)))
			if n, err := e.Decode(plain, v); err == nil {
				return textOf(plain[:n])
			}
		}
	}
	return nil
}

func nibble(c byte) byte {
	if digit(c) {
		return c - '0'
	}
	return c | 0x20 - 'a' + 10
}

// sextet returns the value of a base64 or base64url character (RFC 4648), or 0xff.
func sextet(c byte) byte {
	switch {
	case upper(c):
		return c - 'A'
	case c >= 'a' && c <= 'z':
		return c - 'a' + 26
	case digit(c):
		return c - '0' + 52
	case c == '+' || c == '-':
		return 62
	case c == '/' || c == '_':
		return 63
	}
	return 0xff
}

// beginsAsText reports whether the first base64 characters decode to text.
func beginsAsText(v []byte) bool {
	var head [12]byte
	for g := range 4 {
		var n uint32
		for _, c := range v[g*4 : g*4+4] {
			six := sextet(c)
			if six == 0xff {
				return false
			}
			n = n<<6 | uint32(six)
		}
		head[g*3], head[g*3+1], head[g*3+2] = byte(n>>16), byte(n>>8), byte(n)
	}
	return textOf(head[:]) != nil
}

// textOf returns v if it is ASCII text, otherwise nil.
func textOf(v []byte) []byte {
	for _, c := range v {
		if c < ' ' && c != '\n' && c != '\r' && c != '\t' || c >= 0x7f {
			return nil
		}
	}
	return v
}
