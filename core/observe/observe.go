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
	endpoints map[string]*endpoint
	order     []string
	hosts     map[string]int
	anonymous int // requests without credentials
	roles     map[string]int
	signedIn  int
	told      map[string]map[uint64]bool // what claims of tokens said, as keyed hashes, by their names
	cookies   map[string]int             // by name, of those who show nothing else
}

// New returns an observer. contracts, which may be nil, name endpoints and audiences.
func New(contracts *contract.Contracts) *Observer {
	o := &Observer{contracts: contracts, detectors: contracts.Recognised(), seed: maphash.MakeSeed(),
		endpoints: map[string]*endpoint{}, hosts: map[string]int{}, roles: map[string]int{}, cookies: map[string]int{},
		told: map[string]map[uint64]bool{}}
	return o
}

// endpoint is what was observed at a method and path.
type endpoint struct {
	method, path string
	answers      map[answerKey]*spot
	counts       map[answerKey]int
	takes        *spot
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
	names    []string
	members  map[string]*spot
	present  int // objects it was missing from are those of its parent without it
	keyed    bool
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
		o.callers(c)
		audience = o.callerOf(c)
	}
	o.claims(&c.Request)
	if key == "" {
		key = Template(c.Request.Method, segments)
	}
	var answered, sent []byte
	if c.Response.Missing == "" {
		answered = learnable(c.Response.Header, c.Response.Body)
	}
	readable := answered != nil
	if !readable && c.Response.Status != 204 && c.Response.Status != 304 {
		return
	}
	e := o.endpoints[key]
	if e == nil {
		method, path, _ := strings.Cut(key, " ")
		e = &endpoint{method: method, path: path, answers: map[answerKey]*spot{}, counts: map[answerKey]int{}}
		o.endpoints[key] = e
		o.order = append(o.order, key)
	}
	answer := answerKey{strconv.Itoa(c.Response.Status), audience}
	e.counts[answer]++
	if c.Request.URL.Host != "" {
		o.hosts[c.Request.URL.Scheme+"://"+c.Request.URL.Host]++
	}
	if readable {
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

// callers counts how requests identify their callers.
func (o *Observer) callers(c *exchange.Capture) {
	if !c.Request.Credentials() {
		o.anonymous++
		return
	}
	o.signedIn++
	if role := contract.RoleOf(&c.Request); role != "" {
		o.roles[role]++
		return
	}
	if c.Request.Header.Get("Authorization") != "" {
		return
	}
	for _, pair := range strings.Split(c.Request.Header.Get("Cookie"), ";") {
		if name, _, ok := strings.Cut(strings.TrimSpace(pair), "="); ok && name != "" {
			o.cookies[name]++
		}
	}
}

func (o *Observer) callerOf(c *exchange.Capture) string {
	switch role := contract.RoleOf(&c.Request); {
	case c.Audience != "":
		return c.Audience
	case !c.Request.Credentials():
		return Anyone
	case role != "":
		return role
	}
	return SignedIn
}

// Names of the proposed audiences if no contract defines any.
const (
	Anyone   = "anyone"
	SignedIn = "signed-in"
)

// Template turns the path of a call into an endpoint, with a parameter for each segment that is data, named after
// the segment before it.
func Template(method string, segments []string) string {
	general := strings.Split(strings.TrimPrefix(contract.Generalise(method, segments, detect.IsValue), method+" /"),
		"/")
	taken := map[string]bool{}
	before := ""
	for i, s := range general {
		if s != "{}" {
			before = s
			continue
		}
		name := strings.ToLower(notName.ReplaceAllString(singular(before), "_")) + "_id"
		if name == "_id" || !letterFirst.MatchString(name) {
			name = "id"
		}
		for taken[name] {
			name = "next_" + name
		}
		taken[name] = true
		general[i] = "{" + name + "}"
	}
	return method + " /" + strings.Join(general, "/")
}

var (
	notName     = regexp.MustCompile(`[^A-Za-z0-9_]+`)
	letterFirst = regexp.MustCompile(`^[A-Za-z_]`)
)

// learn learns from a body, up to where it is cut off.
func (o *Observer) learn(s *spot, body []byte) {
	dec := jsontext.NewDecoder(bytes.NewReader(body), jsontext.AllowDuplicateNames(true),
		jsontext.AllowInvalidUTF8(true))
	o.value(dec, s, 0)
}

func (o *Observer) value(dec *jsontext.Decoder, s *spot, depth int) bool {
	if depth > maxDepth {
		return dec.SkipValue() == nil
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
			if dec.PeekKind() == 0 || !o.value(dec, s, depth+1) {
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
		if !o.value(dec, m, depth+1) {
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
