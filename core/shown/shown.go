// Package shown masks the addresses and header fields of exchanges, so that they can be shown to people who may not
// see their values. Values that are known to be harmless stay.
//
// [Masker.Address] masks addresses, [Masker.Header] masks header fields.
package shown

import (
	"net/url"
	"slices"
	"strings"

	"inkret/core/catalog"
	"inkret/core/contract"
	"inkret/core/detect"
	"inkret/core/exchange"
)

// Hidden replaces a value.
const Hidden = "•••"

// Masker masks with the detectors of a contract. The zero value has the built-in detectors.
type Masker struct {
	Detectors *detect.Set
	// Telling lists header fields, in lower case, whose values identify the caller and are never shown.
	Telling map[string]bool
}

// For returns the masker for contracts, which may be nil.
func For(c *contract.Contracts) Masker {
	m := Masker{Detectors: c.Recognised(), Telling: map[string]bool{}}
	if c == nil {
		return m
	}
	for i := range c.Audiences {
		for _, name := range c.Audiences[i].Recognise.Fields() {
			m.Telling[strings.ToLower(name)] = true
		}
	}
	return m
}

// recognised reports whether a value is recognised as secret or personal.
func (m Masker) recognised(text string) bool {
	v := []byte(text)
	return m.Detectors.Value(v, detect.TraitsOf(v)).Found()
}

// Address masks an address. It removes user information and fragment, and masks query values, everything after
// semicolons, and in the path recognised values and parameters with telling names. endpoint is the endpoint as
// contracts write it, or empty.
func (m Masker) Address(u *url.URL, endpoint string) string {
	var b strings.Builder
	if u.Scheme != "" {
		b.WriteString(u.Scheme + ":")
	}
	if u.Opaque != "" {
		return b.String() + Hidden
	}
	if u.Host != "" {
		b.WriteString("//" + u.Host)
	}
	segments := strings.Split(u.EscapedPath(), "/")
	telling := tellingSegments(endpoint, segments)
	for i, segment := range segments {
		if i > 0 {
			b.WriteByte('/')
		}
		word, parameters, more := strings.Cut(segment, ";")
		plain, err := url.PathUnescape(word)
		if err != nil {
			plain = word
		}
		if word != "" && (telling[i] || m.recognised(plain)) {
			word = Hidden
		}
		b.WriteString(word)
		if more {
			b.WriteString(m.pairs(";", strings.Split(parameters, ";")))
		}
	}
	b.WriteString(m.pairs("?", strings.Split(u.RawQuery, "&")))
	return b.String()
}

// pairs writes names with masked values. A name without a value is shown if it is a word.
func (m Masker) pairs(before string, all []string) string {
	var b strings.Builder
	for _, pair := range all {
		if pair == "" {
			continue
		}
		name, _, valued := strings.Cut(pair, "=")
		plain, err := url.QueryUnescape(name)
		if err != nil || m.recognised(plain) || !valued && !word(plain) {
			name = Hidden
		}
		b.WriteString(before + name)
		if valued {
			b.WriteString("=" + Hidden)
		}
		if before == "?" {
			before = "&"
		}
	}
	return b.String()
}

// word reports whether a name without a value is a word: short, and of letters, as in ?wsdl.
func word(name string) bool {
	const longest = 24
	if len(name) > longest {
		return false
	}
	for _, c := range name {
		if !(c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' || c == '_' || c == '-' || c == '.') {
			return false
		}
	}
	return true
}

// tellingSegments marks the path segments of parameters with telling names. The template's segments are the last of
// the path, because a server's prefix may precede them.
func tellingSegments(endpoint string, segments []string) map[int]bool {
	n := len(segments)
	_, template, ok := strings.Cut(endpoint, " ")
	if !ok || !strings.Contains(template, "{") {
		return nil
	}
	template, _, _ = strings.Cut(template, " [")
	parts := strings.Split(strings.Trim(template, "/"), "/")
	marked := map[int]bool{}
	for k, part := range parts {
		open, end := strings.IndexByte(part, '{'), strings.LastIndexByte(part, '}')
		if open < 0 || end < open {
			continue
		}
		name := strings.TrimSuffix(part[open+1:end], "+")
		if detect.Name([]byte(name)) == catalog.Unclassed {
			continue
		}
		if strings.HasSuffix(part[:end], "+") { // the rest of the path, behind the word before it
			from := 0
			if k > 0 && !strings.Contains(parts[k-1], "{") {
				from = slices.Index(segments, parts[k-1]) + 1
			}
			for i := from; i < n; i++ {
				marked[i] = true
			}
			continue
		}
		marked[n-len(parts)+k] = true
	}
	return marked
}

// Header masks header fields: harmless ones keep their value, addresses are masked, Authorization keeps its scheme,
// all others only their name.
func (m Masker) Header(h exchange.Header) exchange.Header {
	out := make(exchange.Header, len(h))
	for i, f := range h {
		out[i] = exchange.HeaderField{Name: f.Name, Value: m.field(strings.ToLower(f.Name), f.Value)}
	}
	return out
}

func (m Masker) field(name, value string) string {
	switch {
	case value == "":
		return ""
	case m.Telling[name]:
		return Hidden
	case name == "authorization" || name == "proxy-authorization":
		if scheme, _, more := strings.Cut(value, " "); more && word(scheme) {
			return scheme + " " + Hidden
		}
		return Hidden
	case addresses[name]:
		u, err := url.Parse(strings.TrimSpace(value))
		if err != nil {
			return Hidden
		}
		return m.Address(u, "")
	case name == "link":
		return m.links(value)
	case name == "content-disposition":
		kind, _, more := strings.Cut(value, ";")
		if !word(strings.TrimSpace(kind)) {
			return Hidden
		}
		if more {
			return kind + "; " + Hidden
		}
		return kind
	case !harmless[name] && !strings.HasPrefix(name, "access-control-") && !strings.HasPrefix(name, "sec-") ||
		m.recognised(value):
		return Hidden
	}
	return value
}

// links masks the addresses of a Link field (RFC 8288), and of its parameters keeps only the relation.
func (m Masker) links(value string) string {
	var all []string
	for value != "" {
		open, end := strings.IndexByte(value, '<'), strings.IndexByte(value, '>')
		if open < 0 || end < open {
			return strings.Join(append(all, Hidden), ", ")
		}
		u, err := url.Parse(value[open+1 : end])
		if err != nil {
			return strings.Join(append(all, Hidden), ", ")
		}
		one := "<" + m.Address(u, "") + ">"
		rest := value[end+1:]
		parameters, next := rest, ""
		if i := strings.Index(rest, ",<"); i >= 0 {
			parameters, next = rest[:i], rest[i+1:]
		} else if i := strings.Index(rest, ", <"); i >= 0 {
			parameters, next = rest[:i], rest[i+1:]
		}
		for _, p := range strings.Split(parameters, ";") {
			name, of, _ := strings.Cut(strings.TrimSpace(p), "=")
			if strings.EqualFold(name, "rel") && word(strings.Trim(of, `"`)) {
				one += "; rel=" + strings.Trim(of, `"`)
			}
		}
		all, value = append(all, one), strings.TrimSpace(next)
	}
	return strings.Join(all, ", ")
}

// addresses lists header fields that contain an address.
var addresses = map[string]bool{"location": true, "content-location": true, "referer": true, "origin": true,
	":path": true, "x-original-url": true, "x-rewrite-url": true}

// harmless lists header fields about how a message is sent, and not about its sender or contents (RFC 9110, RFC
// 9111 and the field name registry). They are still masked if something in them is recognised.
var harmless = func() map[string]bool {
	all := map[string]bool{}
	for _, name := range strings.Fields(`accept accept-charset accept-encoding accept-language accept-ranges age allow alt-svc cache-control connection
		content-encoding content-language content-length content-range content-security-policy content-type cross-origin-embedder-policy
		cross-origin-opener-policy cross-origin-resource-policy date dnt expect expires host keep-alive last-modified if-modified-since
		if-unmodified-since max-forwards permissions-policy pragma prefer preference-applied priority range referrer-policy retry-after
		server strict-transport-security te trailer transfer-encoding upgrade upgrade-insecure-requests user-agent vary via
		x-content-type-options x-frame-options x-powered-by x-requested-with x-xss-protection :method :scheme :authority :status`) {
		all[name] = true
	}
	return all
}()
