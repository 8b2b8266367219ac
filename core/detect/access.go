package detect

import (
	"bytes"
	"encoding/base64"
	"net/url"
	"strings"
)

// Credentials: in addresses, connection strings and header fields, and keys of well-known forms.

const (
	shortestAccess = 12
	// leastRandom is the minimum length at which randomness means anything.
	leastRandom = 16
	longestPart = 512
)

// addressCredential finds credentials in an address.
func addressCredential(v []byte) Hit {
	if i := bytes.Index(v, []byte("://")); i > 0 {
		return inAddress(v, i)
	}
	return Hit{}
}

// pairs finds credentials in names and values between semicolons.
func pairs(v []byte) Hit {
	if bytes.IndexByte(v, ';') <= 0 || bytes.IndexByte(v, '=') <= 0 {
		return Hit{}
	}
	if h := cookie(v); h.Found() {
		return h
	}
	return settings(v)
}

// inAddress finds user and password before the host (RFC 3986 section 3.2.1), one-time password secrets, and
// addresses with a token in the query.
func inAddress(v []byte, colon int) Hit {
	start := colon
	for start > 0 && (letterOrDigit(v[start-1]) || v[start-1] == '+' || v[start-1] == '-' || v[start-1] == '.') {
		start--
	}
	end := colon + len("://")
	for end < len(v) && v[end] > ' ' && v[end] != '"' && v[end] != '<' && v[end] != '>' && v[end] < 0x7f {
		end++
	}
	address := v[start:end]
	if bytes.EqualFold(v[start:colon], []byte("otpauth")) && bytes.Contains(address, []byte("secret=")) {
		return secret("one-time password secret", start, end)
	}
	authority := address[colon-start+len("://"):]
	if i := bytes.IndexAny(authority, "/?#"); i >= 0 {
		authority = authority[:i]
	}
	if at := bytes.LastIndexByte(authority, '@'); at > 0 {
		if _, password, ok := bytes.Cut(authority[:at], []byte(":")); ok && !placeholder(password) {
			return secret("address with a password", start, end)
		}
	}
	if q := bytes.IndexByte(address, '?'); q >= 0 && len(address) < 4*longestPart {
		query, _, _ := bytes.Cut(address[q+1:], []byte("#"))
		for more := len(query) > 0; more; {
			var pair []byte
			pair, query, more = bytes.Cut(query, []byte("&"))
			name, value, _ := bytes.Cut(pair, []byte("="))
			if lowers(name, func(low []byte) bool { return carriesToken[string(low)] }) && random(value) {
				return secret("address with a token", start, end)
			}
		}
	}
	if hookAddress(authority, address) {
		return secret("address with a token", start, end)
	}
	return Hit{}
}

// hookAddress reports whether an address lets whoever has it post into something: it says that it is a hook, and has
// a drawn text in its path.
func hookAddress(authority, address []byte) bool {
	path := address[bytes.Index(address, []byte("://"))+len("://"):]
	path = path[len(authority):]
	if i := bytes.IndexAny(path, "?#"); i >= 0 {
		path = path[:i]
	}
	says := false
	for label := range bytes.SplitSeq(authority, []byte(".")) {
		says = says || hookWords[string(label)]
	}
	for segment := range bytes.SplitSeq(path, []byte("/")) {
		if says && random(segment) && !isUUID(segment) {
			return true
		}
		says = says || hookWords[string(segment)]
	}
	return false
}

// isUUID reports whether a text has the form of RFC 9562.
func isUUID(v []byte) bool {
	const length = 36
	return len(v) == length && v[8] == '-' && v[13] == '-' && v[18] == '-' && v[23] == '-'
}

// hookWords are labels of hosts and segments of paths.
var hookWords = map[string]bool{"hook": true, "hooks": true, "webhook": true, "webhooks": true, "webhookb2": true}

// lowers calls f with a short name in lower case.
func lowers(name []byte, f func([]byte) bool) bool {
	var room [32]byte
	if len(name) > len(room) {
		return false
	}
	for i, c := range name {
		if upper(c) {
			c |= 0x20
		}
		room[i] = c
	}
	return f(room[:len(name)])
}

// carriesToken lists parameters whose value grants access to whoever has the address.
var carriesToken = func() map[string]bool {
	all := map[string]bool{}
	for _, name := range strings.Fields("token access_token auth auth_token authtoken sig signature x-amz-signature " +
		"x-goog-signature reset_token resettoken invite_token confirmation_token ticket magic login_token api_key " +
		"apikey key secret code sid session") {
		all[name] = true
	}
	return all
}()

// placeholder reports whether a password is a placeholder: empty, stars, a variable.
func placeholder(p []byte) bool {
	if len(p) == 0 || bytes.ContainsAny(p, "<>{}$%*[]") && !bytes.ContainsAny(p, "0123456789") {
		return true
	}
	if bytes.Trim(p, "*xX.•-_") == nil || len(bytes.Trim(p, "*xX.-_")) == 0 {
		return true
	}
	switch strings.ToLower(string(p)) {
	case "password", "pass", "pwd", "secret", "changeme", "xxx":
		return true
	}
	return p[0] == '$' || p[0] == '{' || p[0] == '<'
}

// random reports whether a text looks generated: letters of both cases and digits, or hexadecimal, and varied.
func random(v []byte) bool {
	if len(v) < leastRandom || len(v) > longestPart {
		return false
	}
	if bytes.IndexByte(v, '%') >= 0 {
		if plain, err := url.QueryUnescape(string(v)); err == nil {
			v = []byte(plain)
		}
	}
	const lower, capital, figure, sign = 1, 2, 3, 4
	var counts [5]int
	var seen [256]bool
	kinds, turns, before := 0, 0, 0
	hex := true
	for _, c := range v {
		if !seen[c] {
			seen[c] = true
			kinds++
		}
		sort := sign
		switch {
		case digit(c):
			sort = figure
		case c >= 'a' && c <= 'z':
			sort = lower
			hex = hex && c <= 'f'
		case upper(c):
			sort = capital
			hex = hex && c <= 'F'
		case bytes.IndexByte([]byte("-_.+/=~"), c) < 0:
			return false
		}
		counts[sort]++
		if sort != before {
			turns++
		}
		before = sort
	}
	n := len(v)
	switch {
	case counts[sign]*6 > n || counts[lower]+counts[capital] == 0:
		return false
	case hex && counts[sign] == 0: // letters end at f: it takes more of them
		return n >= 32 && counts[figure] > 0 && turns*4 >= n && kinds >= 9
	case counts[figure] == 0: // words written together look like this
		return false
	}
	return turns*5 >= 2*n && kinds*2 >= min(n, 24)
}

// headerValue finds a value of the Authorization field (RFC 6750, RFC 7617).
func headerValue(v []byte) Hit {
	if bytes.IndexByte(v, 'B') < 0 {
		return Hit{}
	}
	if h := afterScheme(v, "Bearer ", "bearer token", random); h.Found() {
		return h
	}
	return afterScheme(v, "Basic ", "basic credentials", basic)
}

// cookie finds a Set-Cookie value (RFC 6265) that sets a session.
func cookie(v []byte) Hit {
	name, rest, ok := bytes.Cut(v, []byte("="))
	if !ok || len(name) == 0 || len(name) > 40 || bytes.IndexByte(rest, ';') < 0 {
		return Hit{}
	}
	value, attributes, _ := bytes.Cut(rest, []byte(";"))
	lower := bytes.ToLower(attributes)
	if (bytes.Contains(lower, []byte("httponly")) || bytes.Contains(lower, []byte("path=/"))) &&
		random(bytes.Trim(value, `"`)) {
		return secret("session cookie", 0, len(v))
	}
	return Hit{}
}

func afterScheme(v []byte, scheme, what string, fits func([]byte) bool) Hit {
	i := bytes.Index(v, []byte(scheme))
	if i < 0 || i > 0 && letterOrDigit(v[i-1]) {
		return Hit{}
	}
	from := i + len(scheme)
	end := from
	for end < len(v) && (letterOrDigit(v[end]) || bytes.IndexByte([]byte("-._~+/="), v[end]) >= 0) {
		end++
	}
	if fits(v[from:end]) {
		return secret(what, i, end)
	}
	return Hit{}
}

func basic(v []byte) bool {
	plain, err := base64.StdEncoding.DecodeString(string(v))
	return err == nil && len(v) >= 8 && bytes.IndexByte(plain, ':') > 0 && printable8(plain)
}

func printable8(v []byte) bool {
	for _, c := range v {
		if c < ' ' && c != '\n' && c != '\r' && c != '\t' || c == 0x7f {
			return false
		}
	}
	return true
}

// settings finds the password in a connection string: pairs of name and value between semicolons, one of which
// names a server or user.
func settings(v []byte) Hit {
	if len(v) > 8*longestPart {
		return Hit{}
	}
	server, password := false, false
	for _, pair := range bytes.Split(v, []byte(";")) {
		name, value, ok := bytes.Cut(pair, []byte("="))
		if !ok {
			continue
		}
		switch strings.ToLower(strings.Join(strings.Fields(string(name)), "")) {
		case "server", "host", "datasource", "addr", "address", "networkaddress", "endpoint", "accountname", "user",
			"uid", "userid", "username", "database", "initialcatalog":
			server = true
		case "password", "pwd", "accountkey", "sharedaccesskey", "passwd":
			password = !placeholder(bytes.TrimSpace(value))
		}
	}
	if server && password {
		return secret("connection string", 0, len(v))
	}
	return Hit{}
}
