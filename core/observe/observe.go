// Package observe learns from recorded traffic what a service's bodies look like. [Observer.Add] takes captures one
// after another, [Observer.Sketch] proposes their objects. It keeps names, types and counts but no values; keyed
// hashes temporarily tell how many values differ.
package observe

import (
	"bytes"
	"hash/maphash"
	"io"
	"net/url"
	"regexp"
	"sort"
	"strconv"
	"strings"

	"github.com/go-json-experiment/json/jsontext"

	"inkret/core/catalog"
	"inkret/core/contract"
	"inkret/core/detect"
	"inkret/core/exchange"
	"inkret/core/schema"
)

const (
	maxDepth    = 64      // deeper members are not learnt
	maxNames    = 400     // an object with more different members is used as a map
	maxDistinct = 24      // different values that are told apart, of one place
	maxPlaces   = 200_000 // places learnt of a service
)

// Observer learns from captures. It is not safe for concurrent use.
type Observer struct {
	contracts *contract.Contracts // knows endpoints and audiences; may be nil
	detectors *detect.Set
	seed      maphash.Seed
	places    int
	root      *node                // of paths that no contract names
	known     map[string]*endpoint // those that one does
	seen      int                  // endpoints
	hosts     map[string]int
	anonymous int            // requests without credentials
	keys      map[string]int // with a key, by the header field
	roles     map[string]int
	said      map[string]int             // audiences that recordings name
	signedIn  int                        // with credentials
	bearers   int                        // with an Authorization header, and no role
	told      map[string]map[uint64]bool // what claims of tokens said, as keyed hashes, by their names
	cookies   map[string]int             // by name, of those who show nothing else
	graphs    graphs
}

// New returns an observer. contracts, which may be nil, name endpoints and audiences.
func New(contracts *contract.Contracts) *Observer {
	o := &Observer{contracts: contracts, detectors: contracts.Recognised(), seed: maphash.MakeSeed(),
		root: newNode(), known: map[string]*endpoint{}, hosts: map[string]int{}, roles: map[string]int{},
		keys: map[string]int{}, said: map[string]int{}, cookies: map[string]int{},
		told: map[string]map[uint64]bool{}}
	if contracts != nil {
		for _, e := range contracts.Endpoints {
			o.root.parameters(e)
		}
	}
	return o
}

type answerKey struct{ status, audience string }

// spot is one place in an endpoint's bodies.
type spot struct {
	seen     int // values here
	nulls    int
	kinds    map[jsontext.Kind]int
	integers int
	formats  map[string]int
	longest  int
	hits     map[string]int // by detector
	class    catalog.Class
	distinct map[uint64]bool
	many     bool // it was an array at times; members and values are its elements'
	arrays   int
	single   int // values that were no element of an array, besides null
	names    []string
	members  map[string]*spot
	present  int // objects it was missing from are those of its parent without it
	keyed    bool
	told     map[string]bool  // see [spot.telling]
	toldAt   int              // how much had been learnt then
	byType   map[string]*spot // elements of a list of resources, by what their member type says
}

func newSpot() *spot {
	return &spot{kinds: map[jsontext.Kind]int{}, formats: map[string]int{}, hits: map[string]int{},
		distinct: map[uint64]bool{}, members: map[string]*spot{}}
}

// Add learns from one capture. Without a JSON body it only records the endpoint.
func (o *Observer) Add(c *exchange.Capture) {
	if c.Request.URL == nil || c.Request.Preflight() {
		return
	}
	segments := strings.Split(strings.Trim(c.Request.URL.EscapedPath(), "/"), "/")
	key, audience := "", ""
	if o.contracts != nil {
		served := false
		if segments, served = o.contracts.Serves(c.Request.URL); !served {
			return
		}
		if a, _ := o.contracts.AudienceOf(c.Audience, &c.Request); a != nil {
			audience = a.Name
		}
		if e := o.contracts.Find(c.Request.Method, segments); e != nil {
			key = e.Text
		}
	} else {
		audience = o.callerOf(c)
	}
	o.claims(&c.Request)
	if key == "" && o.asks(c, endpointOf(strings.Join(segments, "/")), audience) {
		if c.Request.URL.Host != "" {
			o.hosts[c.Request.URL.Scheme+"://"+c.Request.URL.Host]++
		}
		return
	}
	var answered, sent []byte
	if c.Response.Missing == "" {
		answered = learnable(c.Response.Header, c.Response.Body)
	}
	readable := answered != nil
	if !readable && c.Response.Status != 204 && c.Response.Status != 304 {
		return
	}
	e := o.variantOf(c.Request.Method, key, segments)
	answer := answerKey{strconv.Itoa(c.Response.Status), audience}
	e.counts[answer]++
	if c.Request.URL.Host != "" {
		o.hosts[c.Request.URL.Scheme+"://"+c.Request.URL.Host]++
	}
	if readable {
		for i, s := range segments {
			if text := contract.Unescaped(s); len(text) > 1 &&
				bytes.Contains(answered, strconv.AppendQuote(nil, text)) {
				e.echoes[i] = true
			}
		}
		if e.answers[answer] == nil {
			e.answers[answer] = newSpot()
		}
		o.learn(e.answers[answer], answered)
	}
	if c.Response.Status < 400 {
		sent = learnable(c.Request.Header, c.Request.Body)
	}
	if sent != nil {
		if e.takes == nil {
			e.takes = newSpot()
		}
		o.learn(e.takes, sent)
	}
}

// variantOf returns what is learnt of an endpoint: a contract's, or the one of a path.
func (o *Observer) variantOf(method, known string, segments []string) *variant {
	into, key, values := o.known, known, map[int]string(nil)
	path := ""
	if known == "" {
		var n *node
		n, values = o.at(segments)
		into, key = n.endpoints, method
	} else {
		method, path, _ = strings.Cut(known, " ")
	}
	e := into[key]
	if e == nil {
		o.seen++
		e = &endpoint{method: method, path: path, first: o.seen}
		into[key] = e
	}
	return e.variant(values)
}

// learnable returns the JSON text of a body, or nothing for pages and unreadable bodies.
func learnable(h exchange.Header, body []byte) []byte {
	contentType := h.Get("Content-Type")
	if len(body) == 0 || exchange.Readable(contentType, body) != nil {
		return nil
	}
	parts, err := exchange.Parts(nil, contentType, body)
	if err != nil || len(parts) != 1 || parts[0].Place != "" {
		return nil
	}
	return parts[0].Text
}

// keyHeaders lists usual names of header fields with a key, besides Authorization.
var keyHeaders = []string{"X-Api-Key", "Api-Key", "X-Auth-Token", "X-Access-Token", "X-Token"}

// callerOf tells the audience of a request that no contract knows of, and counts it.
func (o *Observer) callerOf(c *exchange.Capture) string {
	if c.Audience != "" {
		o.said[c.Audience]++
		return c.Audience
	}
	if !c.Request.Credentials() {
		for _, name := range keyHeaders {
			if c.Request.Header.Get(name) != "" {
				o.keys[name]++
				return WithKey
			}
		}
		o.anonymous++
		return Anyone
	}
	o.signedIn++
	if role := contract.RoleOf(&c.Request); role != "" {
		o.roles[role]++
		return role
	}
	if c.Request.Header.Get("Authorization") != "" {
		o.bearers++
		return SignedIn
	}
	for _, pair := range strings.Split(c.Request.Header.Get("Cookie"), ";") {
		if name, _, ok := strings.Cut(strings.TrimSpace(pair), "="); ok && name != "" {
			o.cookies[name]++
		}
	}
	return ByCookie
}

// Names of the proposed audiences if no contract defines any.
const (
	Anyone   = "anyone"
	WithKey  = "with-key"
	SignedIn = "signed-in"
	ByCookie = "signed-in-by-cookie"
)

// learn learns from a body, up to where it is cut off.
func (o *Observer) learn(s *spot, body []byte) {
	dec := jsontext.NewDecoder(bytes.NewReader(body), jsontext.AllowDuplicateNames(true),
		jsontext.AllowInvalidUTF8(true))
	o.value(dec, s, 0, false)
}

func (o *Observer) value(dec *jsontext.Decoder, s *spot, depth int, element bool) bool {
	if depth > maxDepth {
		return dec.SkipValue() == nil
	}
	if kind := dec.PeekKind(); !element && kind != '[' && kind != 'n' {
		s.single++
	}
	switch dec.PeekKind() {
	case '{':
		s.seen++
		s.kinds['{']++
		return o.object(dec, s, depth)
	case '[':
		s.many = true
		s.arrays++
		if _, err := dec.ReadToken(); err != nil {
			return false
		}
		for dec.PeekKind() != ']' {
			if dec.PeekKind() == '[' { // lists of lists are learnt as a list of anything
				s.kinds['[']++
				if dec.SkipValue() != nil {
					return false
				}
				continue
			}
			if dec.PeekKind() == 0 || !o.value(dec, s, depth+1, true) {
				return false
			}
		}
		_, err := dec.ReadToken()
		return err == nil
	}
	token, err := dec.ReadToken()
	if err != nil {
		return false
	}
	kind := token.Kind()
	if kind == 'f' {
		kind = 't'
	}
	s.seen++
	s.kinds[kind]++
	switch kind {
	case 'n':
		s.nulls++
	case '0':
		text := token.String()
		if f, err := strconv.ParseFloat(text, 64); err == nil && f == float64(int64(f)) {
			s.integers++
		}
		o.distinct(s, text)
	case '"':
		text := token.String()
		s.longest = max(s.longest, len([]rune(text)))
		if hit := o.detectors.Value([]byte(text), detect.TraitsOf([]byte(text))); hit.Found() {
			s.hits[hit.Detector]++
			s.class = max(s.class, hit.Class)
		}
		if f := formatOf(text); f != "" {
			s.formats[f]++
		}
		o.distinct(s, text)
	}
	return true
}

func (o *Observer) distinct(s *spot, text string) {
	if len(s.distinct) <= maxDistinct {
		s.distinct[maphash.String(o.seed, text)] = true
	}
}

func (o *Observer) object(dec *jsontext.Decoder, s *spot, depth int) bool {
	if _, err := dec.ReadToken(); err != nil {
		return false
	}
	for dec.PeekKind() != '}' {
		token, err := dec.ReadToken()
		if err != nil {
			return false
		}
		name := token.String()
		if dataName.MatchString(name) || detect.IsValue([]byte(name)) || len(s.names) >= maxNames {
			s.keyed, name = true, "*"
		}
		m := s.members[name]
		if m == nil {
			if o.places >= maxPlaces {
				if dec.SkipValue() != nil {
					return false
				}
				continue
			}
			o.places++
			m = newSpot()
			s.members[name] = m
			s.names = append(s.names, name)
		}
		m.present++
		if depth == 0 && name == schema.IncludedName && dec.PeekKind() == '[' {
			if !o.included(dec, m) {
				return false
			}
			continue
		}
		if !o.value(dec, m, depth+1, false) {
			return false
		}
	}
	_, err := dec.ReadToken()
	return err == nil || err == io.EOF
}

// dataName matches member names that are data.
var dataName = regexp.MustCompile(`^(\d+|[0-9a-fA-F]{16,}|[0-9a-fA-F]{8}(-[0-9a-fA-F]{4}){3}-[0-9a-fA-F]{12})$`)

var (
	date     = regexp.MustCompile(`^\d{4}-\d\d-\d\d$`)
	dateTime = regexp.MustCompile(`^\d{4}-\d\d-\d\d[Tt ]\d\d:\d\d(:\d\d(\.\d+)?)?([Zz]|[+-]\d\d:?\d\d)$`)
	uuid     = regexp.MustCompile(`^[0-9a-fA-F]{8}(-[0-9a-fA-F]{4}){3}-[0-9a-fA-F]{12}$`)
)

func formatOf(s string) string {
	switch {
	case date.MatchString(s):
		return "date"
	case dateTime.MatchString(s):
		return "date-time"
	case uuid.MatchString(s):
		return "uuid"
	case strings.HasPrefix(s, "http://") || strings.HasPrefix(s, "https://"):
		if u, err := url.Parse(s); err == nil && u.Host != "" {
			return "uri"
		}
	case strings.Contains(s, "@") && !strings.Contains(s, " "):
		if at := strings.LastIndexByte(s, '@'); at > 0 && strings.Contains(s[at:], ".") {
			return "email"
		}
	}
	return ""
}

// form returns the common form of all values at a place.
func (s *spot) form() catalog.Form {
	f := catalog.Form{Nullable: s.nulls > 0}
	values := s.seen - s.nulls
	switch {
	case values == 0:
	case s.kinds['0'] == values && s.integers == values:
		f.Type = catalog.Integer
	case s.kinds['0'] == values:
		f.Type = catalog.Number
	case s.kinds['t'] == values:
		f.Type = catalog.Boolean
	case s.kinds['"'] == values:
		f.Type = catalog.String
		for format, n := range s.formats {
			if n == values {
				f.Format = format
			}
		}
	}
	return f
}

func (s *spot) detector() string {
	var names []string
	for d := range s.hits {
		names = append(names, d)
	}
	sort.Slice(names, func(i, k int) bool {
		return s.hits[names[i]] > s.hits[names[k]] || s.hits[names[i]] == s.hits[names[k]] && names[i] < names[k]
	})
	if len(names) == 0 {
		return ""
	}
	return names[0]
}
