package contract

import (
	"bytes"
	"encoding/base64"
	"encoding/json"
	"fmt"
	"mime"
	"net/url"
	"regexp"
	"slices"
	"sort"
	"strconv"
	"strings"
	"unicode/utf8"

	"inkret/core/document"
	"inkret/core/exchange"
	"inkret/core/place"
)

// segment is one segment of a path template.
type segment struct {
	literal string         // set for a literal
	pattern *regexp.Regexp // set for a literal with parameters in it
	rest    bool           // {p+}
	params  []string
}

var parameter = regexp.MustCompile(`\{([A-Za-z_][A-Za-z0-9_.-]*)(\+?)\}`)

// template parses "METHOD /path" into e and reports success.
func (r *reader) template(e *Endpoint, n *document.Node) bool {
	method, path, ok := strings.Cut(e.Text, " ")
	if !ok || !strings.HasPrefix(path, "/") || strings.ContainsAny(path, " ?#") {
		r.report(n, "a method and a path, as in GET /v1/bookings/{booking_id}", "%q is no endpoint", e.Text)
		return false
	}
	if !methodTokens[method] {
		var known []string
		for m := range methodTokens {
			known = append(known, m)
		}
		sort.Strings(known)
		r.unknown(n, "method", method, known)
		return false
	}
	e.Method = method
	parts := splitPath(path)
	seen := map[string]bool{}
	for i, part := range parts {
		s, problem := parseSegment(part)
		for _, p := range s.params {
			if seen[p] {
				problem = "the parameter {" + p + "} stands twice"
			}
			seen[p] = true
		}
		if s.rest && i < len(parts)-1 {
			problem = "{" + s.params[0] + "+} takes the rest of the path and stands in the middle"
		}
		if problem != "" {
			r.report(n, "segments such as bookings, {booking_id}, {name}.json or, last, {path+}", "%s", problem)
			return false
		}
		e.Segments = append(e.Segments, s)
	}
	return true
}

// splitPath returns the segments of a path, ignoring one trailing slash.
func splitPath(path string) []string {
	path = strings.TrimPrefix(path, "/")
	path = strings.TrimSuffix(path, "/")
	if path == "" {
		return nil
	}
	return strings.Split(path, "/")
}

// Unescaped decodes a segment of a path; what cannot be decoded stays as it is.
func Unescaped(segment string) string { return unescape(segment) }

func unescape(segment string) string {
	if s, err := url.PathUnescape(segment); err == nil {
		return s
	}
	return segment
}

func parseSegment(part string) (segment, string) {
	found := parameter.FindAllStringSubmatchIndex(part, -1)
	if strings.ContainsAny(parameter.ReplaceAllString(part, ""), "{}") {
		return segment{}, "the segment " + strconv.Quote(part) + " has a brace that opens or closes no parameter"
	}
	if len(found) == 0 {
		return segment{literal: unescape(part)}, ""
	}
	if !utf8.ValidString(unescape(parameter.ReplaceAllString(part, ""))) {
		return segment{}, "the segment " + strconv.Quote(part) + " is no text in UTF-8 beside its parameters"
	}
	var s segment
	pattern, last := "^", 0
	for _, m := range found {
		s.params = append(s.params, part[m[2]:m[3]])
		whole := m[0] == 0 && m[1] == len(part)
		if m[4] != m[5] {
			if !whole {
				return s, "{" + s.params[0] + "+} must be a segment of its own"
			}
			s.rest = true
		}
		if whole {
			return s, ""
		}
		pattern += regexp.QuoteMeta(unescape(part[last:m[0]])) + "(.+)"
		last = m[1]
	}
	s.pattern = regexp.MustCompile(pattern + regexp.QuoteMeta(unescape(part[last:])) + "$")
	return s, ""
}

// Template returns an endpoint, as in GET /v1/bookings/{booking_id}, without the names of its parameters, and whether a
// contract can have it. Endpoints with equal templates receive the same requests.
func Template(endpoint string) (template string, ok bool) {
	r := &reader{c: &Contracts{}, templates: map[string]*document.Node{}}
	e := &Endpoint{Text: endpoint}
	if !r.template(e, &document.Node{}) {
		return "", false
	}
	return e.normalised(), true
}

// normalised returns the endpoint without parameter names.
func (e *Endpoint) normalised() string {
	var b strings.Builder
	b.WriteString(e.Method)
	for _, s := range e.Segments {
		b.WriteByte('/')
		switch {
		case s.literal != "":
			b.WriteString(s.literal)
		case s.pattern != nil:
			b.WriteString(s.pattern.String())
		case s.rest:
			b.WriteString("{+}")
		default:
			b.WriteString("{}")
		}
	}
	return b.String()
}

// route is a node of the routing tree. Its children are in matching order.
type route struct {
	methods  map[string]*Endpoint // endpoints that end here
	literals map[string]*route
	patterns []patternRoute
	any      *route
	rest     map[string]*Endpoint
}

type patternRoute struct {
	re *regexp.Regexp
	*route
}

func buildRoutes(endpoints []*Endpoint) *route {
	root := &route{}
	for _, e := range endpoints {
		at := root
		for _, s := range e.Segments {
			if s.rest {
				if at.rest == nil {
					at.rest = map[string]*Endpoint{}
				}
				at.rest[e.Method] = e
				at = nil
				break
			}
			at = at.child(s)
		}
		if at == nil {
			continue
		}
		if at.methods == nil {
			at.methods = map[string]*Endpoint{}
		}
		at.methods[e.Method] = e
	}
	root.queries()
	return root
}

// queries makes endpoints that answer GraphQL by POST those of GET requests too, where nothing else is.
func (r *route) queries() {
	for _, methods := range []map[string]*Endpoint{r.methods, r.rest} {
		if e := methods["POST"]; e.Graph() != nil && methods["GET"] == nil {
			methods["GET"] = e
		}
	}
	for _, next := range r.literals {
		next.queries()
	}
	for _, next := range r.patterns {
		next.queries()
	}
	if r.any != nil {
		r.any.queries()
	}
}

func (r *route) child(s segment) *route {
	switch {
	case s.pattern != nil:
		for _, p := range r.patterns {
			if p.re.String() == s.pattern.String() {
				return p.route
			}
		}
		next := &route{}
		r.patterns = append(r.patterns, patternRoute{s.pattern, next})
		// more literal text first, then alphabetical
		sort.SliceStable(r.patterns, func(i, j int) bool {
			a, b := r.patterns[i].re.String(), r.patterns[j].re.String()
			return len(a) > len(b) || len(a) == len(b) && a < b
		})
		return next
	case len(s.params) > 0:
		if r.any == nil {
			r.any = &route{}
		}
		return r.any
	}
	if r.literals == nil {
		r.literals = map[string]*route{}
	}
	if r.literals[s.literal] == nil {
		r.literals[s.literal] = &route{}
	}
	return r.literals[s.literal]
}

// find returns the endpoint for the segments. It tries the most specific children first and backtracks.
func (r *route) find(method string, segments []string) *Endpoint {
	if len(segments) == 0 {
		return r.methods[method]
	}
	head, tail := segments[0], segments[1:]
	if next := r.literals[head]; next != nil {
		if e := next.find(method, tail); e != nil {
			return e
		}
	}
	if head != "" {
		for _, p := range r.patterns {
			if p.re.MatchString(head) {
				if e := p.find(method, tail); e != nil {
					return e
				}
			}
		}
		if r.any != nil {
			if e := r.any.find(method, tail); e != nil {
				return e
			}
		}
	}
	return r.rest[method]
}

// reached reports whether a URL is below the server's address. A URL without a scheme, as in an HTTP message,
// matches any scheme.
func (s *Server) reached(u *url.URL) bool {
	port := portOf(u)
	if u.Scheme == "" && u.Port() == "" {
		port = s.Port
	}
	return (u.Scheme == "" || strings.EqualFold(s.Scheme, u.Scheme)) && s.Host == strings.ToLower(u.Hostname()) &&
		s.Port == port
}

// Serves returns the path below the longest matching server address, as percent-encoded segments. It reports false
// for URLs of other servers. Without servers, every host matches.
func (c *Contracts) Serves(u *url.URL) ([]string, bool) {
	segments := splitPath(u.EscapedPath())
	if len(c.Servers) == 0 {
		return segments, true
	}
	best, ok := -1, false
	for _, s := range c.Servers {
		if !s.reached(u) ||
			len(s.Path) > len(segments) || len(s.Path) <= best {
			continue
		}
		fits := true
		for i, p := range s.Path {
			fits = fits && p == segments[i]
		}
		if fits {
			best, ok = len(s.Path), true
		}
	}
	if !ok {
		return nil, false
	}
	return segments[best:], true
}

// Find returns the endpoint of a request, or nil. Segments are those returned by [Contracts.Serves].
func (c *Contracts) Find(method string, segments []string) *Endpoint {
	plain := make([]string, len(segments))
	for i, s := range segments {
		plain[i] = unescape(s)
	}
	return c.routes.find(method, plain)
}

// How an audience was determined.
const (
	Said       = "said"
	Recognised = "recognised"
	Assumed    = "assumed"
)

// AudienceOf determines who sent a request: the stated audience, or else the most trusted one that recognises it,
// or else the least trusted. A request with credentials is never assumed to be of an audience without, if there is
// another. The result is nil if the contracts define no audiences, or if the stated one is unknown.
func (c *Contracts) AudienceOf(said string, req *exchange.Request) (*Audience, string) {
	if said != "" {
		return c.Audience(said), Said
	}
	for i := len(c.Audiences) - 1; i >= 0; i-- {
		if c.Audiences[i].Recognise.holds(req) {
			return c.Audiences[i], Recognised
		}
	}
	if len(c.Audiences) == 0 {
		return nil, ""
	}
	if req.Credentials() {
		for _, a := range c.Audiences {
			if !a.Recognise.None {
				return a, Assumed
			}
		}
	}
	return c.Audiences[0], Assumed
}

func (r *Recognise) empty() bool {
	return !r.None && r.Claim == nil && r.Header == nil && r.Cookie == nil
}

func (r *Recognise) holds(req *exchange.Request) bool {
	if r.empty() {
		return false
	}
	if r.None && req.Credentials() {
		return false
	}
	if r.Header != nil && !anyHeader(req.Header, r.Header) {
		return false
	}
	if r.Cookie != nil {
		if v, ok := req.Header.Cookie(r.Cookie.Name); !ok || !r.Cookie.fits(v) {
			return false
		}
	}
	return r.Claim == nil || claims(req, r.Claim)
}

func anyHeader(h exchange.Header, m *Match) bool {
	for _, f := range h {
		if strings.EqualFold(f.Name, m.Name) && m.fits(f.Value) {
			return true
		}
	}
	return false
}

// claims matches a claim of a JWT (RFC 7519). The signature is not verified: the recording is evidence of what was
// sent, and nobody is authenticated by it.
func claims(req *exchange.Request, m *Match) bool {
	for _, token := range m.tokens(req) {
		if raw := claimAt(tokenClaims(token), m.Name); raw != nil && claimFits(raw, m) {
			return true
		}
	}
	return false
}

// tokens returns the candidates for the token: with and without a leading scheme name.
func (m *Match) tokens(req *exchange.Request) []string {
	field := "Authorization"
	switch {
	case m.FromCookie != "":
		value, _ := req.Header.Cookie(m.FromCookie)
		return []string{strings.Trim(value, `"`)}
	case m.FromHeader != "":
		field = m.FromHeader
	}
	var all []string
	for _, f := range req.Header {
		if !strings.EqualFold(f.Name, field) {
			continue
		}
		token := strings.TrimSpace(f.Value)
		if scheme, rest, ok := strings.Cut(token, " "); ok && strings.EqualFold(scheme, "Bearer") {
			token = strings.TrimSpace(rest)
		}
		all = append(all, token)
	}
	return all
}

// claimAt returns a claim by name or by JSON Pointer (RFC 6901).
func claimAt(claims map[string]json.RawMessage, name string) json.RawMessage {
	if raw := claims[name]; raw != nil || !strings.HasPrefix(name, "/") {
		return raw
	}
	var raw json.RawMessage
	for step := range strings.SplitSeq(name[1:], "/") {
		step = strings.NewReplacer("~1", "/", "~0", "~").Replace(step)
		if raw != nil {
			claims = nil
			var list []json.RawMessage
			if at, err := strconv.Atoi(step); err == nil && json.Unmarshal(raw, &list) == nil && at >= 0 &&
				at < len(list) {
				raw = list[at]
				continue
			}
			if json.Unmarshal(raw, &claims) != nil {
				return nil
			}
		}
		if raw = claims[step]; raw == nil {
			return nil
		}
	}
	return raw
}

// tokenClaims returns the claims of a JWT, or nil.
func tokenClaims(token string) map[string]json.RawMessage {
	parts := strings.Split(token, ".")
	if len(parts) != 3 || strings.Contains(token, " ") { // of another scheme
		return nil
	}
	payload, err := base64.RawURLEncoding.DecodeString(strings.TrimRight(parts[1], "="))
	if err != nil {
		return nil
	}
	var all map[string]json.RawMessage
	if json.Unmarshal(payload, &all) != nil {
		return nil
	}
	return all
}

// ClaimsOf returns the scalar claims of a request's JWT bearer token, as texts by their names.
func ClaimsOf(req *exchange.Request) map[string]string {
	all := map[string]string{}
	for _, token := range (&Match{}).tokens(req) {
		for name, raw := range tokenClaims(token) {
			if text, ok := scalarText(raw); ok && text != "" {
				all[name] = text
			}
		}
	}
	return all
}

// RoleOf returns the `role` claim of a request's JWT bearer token if it is one word, or the empty string.
func RoleOf(req *exchange.Request) string {
	for _, token := range (&Match{}).tokens(req) {
		if text, _ := scalarText(tokenClaims(token)["role"]); roleWord.MatchString(text) {
			return text
		}
	}
	return ""
}

var roleWord = regexp.MustCompile(`^[A-Za-z][A-Za-z0-9_-]{0,39}$`)

func claimFits(raw json.RawMessage, m *Match) bool {
	var list []json.RawMessage
	if json.Unmarshal(raw, &list) == nil && list != nil {
		for _, item := range list {
			if text, ok := scalarText(item); ok && m.fits(text) {
				return true
			}
		}
		return false
	}
	text, ok := scalarText(raw)
	if !ok {
		return false
	}
	if m.fits(text) {
		return true
	}
	for _, word := range strings.Fields(text) {
		if m.fits(word) {
			return true
		}
	}
	return false
}

// scalarText returns a JSON scalar as it would be written in a contract.
func scalarText(raw json.RawMessage) (string, bool) {
	raw = bytes.TrimSpace(raw)
	if len(raw) == 0 || raw[0] == '{' || raw[0] == '[' || string(raw) == "null" {
		return "", false
	}
	if raw[0] == '"' {
		var s string
		err := json.Unmarshal(raw, &s)
		return s, err == nil
	}
	return string(raw), true
}

// Choice is the response of the contract that applies to a capture.
type Choice struct {
	Response *Response
	Status   string    // the entry of statuses that matched
	For      *Audience // whose grants judge: the request's own audience unless Wrong
	Wrong    bool      // no response holds the request's audience
}

// Title returns the display name of the situation: its status and condition.
func (c Choice) Title() string {
	if when := c.Response.whenWords(); when != "" {
		return fmt.Sprintf("%s [%s]", c.Status, when)
	}
	return c.Status
}

// Choose selects the response of e for a status and audience, by the rules of docs/judging.md. The Response is nil
// if none matches.
func (e *Endpoint) Choose(aud *Audience, cap *exchange.Capture) Choice {
	for _, all := range [][]*Response{e.Responses, e.all.Responses} {
		fits := fitting(all, cap)
		if len(fits) == 0 {
			continue
		}
		if r, s := best(fits, aud, cap.Response.Status); r != nil {
			return Choice{Response: r, Status: s, For: aud}
		}
		for i := len(e.all.Audiences) - 1; i >= 0; i-- {
			if r, s := best(fits, e.all.Audiences[i], cap.Response.Status); r != nil {
				return Choice{Response: r, Status: s, For: e.all.Audiences[i], Wrong: true}
			}
		}
	}
	return Choice{}
}

func fitting(all []*Response, cap *exchange.Capture) []*Response {
	var fits []*Response
	for _, r := range all {
		for _, s := range r.Statuses {
			if holds(s, cap.Response.Status) > 0 && r.conditionsHold(cap) {
				fits = append(fits, r)
				break
			}
		}
	}
	return fits
}

func best(all []*Response, aud *Audience, status int) (*Response, string) {
	var chosen *Response
	var entry string
	rank := [3]int{}
	for _, r := range all {
		if aud != nil && !r.Audiences.has(aud.Index) {
			continue
		}
		for _, s := range r.Statuses {
			this := [3]int{holds(s, status), 0, len(r.When)}
			if r.Named {
				this[1] = 1
			}
			if this[0] > 0 && (chosen == nil || graver(this, rank)) {
				chosen, entry, rank = r, s, this
			}
		}
	}
	return chosen, entry
}

func graver(a, b [3]int) bool {
	for i := range a {
		if a[i] != b[i] {
			return a[i] > b[i]
		}
	}
	return false
}

func (r *Response) conditionsHold(cap *exchange.Capture) bool {
	for _, c := range r.When {
		m := Match{Name: c.name, Values: c.values}
		switch c.in {
		case "query":
			held := false
			if cap.Request.URL != nil {
				for _, v := range cap.Request.URL.Query()[c.name] {
					held = held || m.fits(v)
				}
			}
			if !held {
				return false
			}
		case "header":
			if !anyHeader(cap.Request.Header, &m) {
				return false
			}
		case "media":
			media, _, err := mime.ParseMediaType(cap.Response.Header.Get("Content-Type"))
			if err != nil || !m.fits(media) {
				return false
			}
		case "body":
			if text, ok := bodyText(cap.Request.Body, c.name); !ok || !m.fits(text) {
				return false
			}
		}
	}
	return true
}

// bodyText returns the scalar at a JSON Pointer in a request body.
func bodyText(body []byte, pointer string) (string, bool) {
	tokens, _ := place.SplitPointer(pointer)
	raw := json.RawMessage(body)
	for _, t := range tokens {
		raw = bytes.TrimSpace(raw)
		if len(raw) == 0 {
			return "", false
		}
		if raw[0] == '[' {
			var list []json.RawMessage
			i, err := strconv.Atoi(t)
			if err != nil || json.Unmarshal(raw, &list) != nil || i < 0 || i >= len(list) {
				return "", false
			}
			raw = list[i]
			continue
		}
		var members map[string]json.RawMessage
		if json.Unmarshal(raw, &members) != nil || members[t] == nil {
			return "", false
		}
		raw = members[t]
	}
	return scalarText(raw)
}

var (
	uuidSegment = regexp.MustCompile(`^[0-9a-fA-F]{8}-[0-9a-fA-F]{4}-[0-9a-fA-F]{4}-[0-9a-fA-F]{4}-[0-9a-fA-F]{12}$`)
	hexSegment  = regexp.MustCompile(`^[0-9a-fA-F]{16,}$`)
	longSegment = regexp.MustCompile(`^[A-Za-z0-9_-]{20,}$`)
	digits      = regexp.MustCompile(`^[0-9]+$`)
)

// Generalise turns a request without a contract into an endpoint: method and path, with {} for each segment that is
// data, so that a thousand calls make one finding.
func Generalise(method string, segments []string, isValue func(segment []byte) bool) string {
	out := make([]string, len(segments))
	for i, s := range segments {
		out[i] = s
		if IsParameter(unescape(s)) || isValue != nil && isValue([]byte(unescape(s))) {
			out[i] = "{}"
		}
	}
	return method + " /" + strings.Join(out, "/")
}

// IsParameter reports whether a path segment looks like a value instead of a word: only digits, a UUID, a date, at
// least 16 hexadecimal digits, at least 20 letters and digits with a digit among them, or at least ten that
// alternate three times.
func IsParameter(segment string) bool {
	switch {
	case digits.MatchString(segment), uuidSegment.MatchString(segment), hexSegment.MatchString(segment),
		dateSegment.MatchString(segment):
		return true
	case longSegment.MatchString(segment):
		return strings.ContainsAny(segment, "0123456789")
	}
	return mixed(segment)
}

var dateSegment = regexp.MustCompile(`^\d{4}-(0[1-9]|1[0-2])-(0[1-9]|[12]\d|3[01])$`)

// mixed reports whether a segment has at least ten letters and digits that alternate three times.
func mixed(segment string) bool {
	const least, leastTurns = 10, 3
	turns, before := 0, byte(0)
	for i := range len(segment) {
		sort := byte(0)
		switch c := segment[i]; {
		case c >= '0' && c <= '9':
			sort = 'd'
		case c|0x20 >= 'a' && c|0x20 <= 'z':
			sort = 'l'
		case c == '_' || c == '-':
			continue
		default:
			return false
		}
		if before != 0 && sort != before {
			turns++
		}
		before = sort
	}
	return len(segment) >= least && turns >= leastTurns
}

// Chooses reports whether a query value selects a response or members. Such values are written in the contracts and
// therefore harmless.
func (c *Contracts) Chooses(name, value string) bool {
	if c == nil {
		return false
	}
	for _, e := range c.Endpoints {
		if e.Selection != nil && e.Selection.Query == name && len(value) < longestSelection {
			return true
		}
		for _, r := range slices.Concat(e.Responses, e.Accepts) {
			for _, w := range r.When {
				if w.in == "query" && w.name == name && slices.Contains(w.values, value) {
					return true
				}
			}
		}
	}
	return false
}

// longestSelection limits the length of a list of selected members.
const longestSelection = 1000

// Asked returns the members that a request selects, or nil if it does not select.
func (s *Selection) Asked(u *url.URL) []string {
	values, ok := u.Query()[s.Query]
	if !ok {
		return nil
	}
	asked := []string{}
	for _, v := range values {
		for _, name := range strings.Split(v, s.Separator) {
			if name = strings.TrimSpace(name); name != "" {
				asked = append(asked, name)
			}
		}
	}
	return asked
}

// Parameter is a path parameter and its value in a request.
type Parameter struct{ Name, Value string }

// Parameters returns the path parameters of a request to the endpoint.
func (e *Endpoint) Parameters(segments []string) []Parameter {
	var all []Parameter
	for i, s := range e.Segments {
		switch {
		case i >= len(segments):
			return all
		case s.rest:
			return append(all, Parameter{s.params[0], unescape(strings.Join(segments[i:], "/"))})
		case s.pattern != nil:
			found := s.pattern.FindStringSubmatch(unescape(segments[i]))
			for k := 1; k < len(found); k++ {
				all = append(all, Parameter{s.params[k-1], found[k]})
			}
		case len(s.params) > 0:
			all = append(all, Parameter{s.params[0], unescape(segments[i])})
		}
	}
	return all
}
