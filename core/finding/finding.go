// Package finding turns spots into findings: one leak at one endpoint, identified by a fingerprint, counted each
// time it occurs, with states that people and proof change.
package finding

import (
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"sort"
	"strings"

	"inkret/core/contract"
	"inkret/core/kind"
	"inkret/core/scan"
	"inkret/core/severity"
)

// Directions of a finding.
const (
	Response = "response"
	Request  = "request"
)

// Identity distinguishes findings. Parts that do not apply are empty.
type Identity struct {
	Service, Endpoint, Audience, Direction, Status, Path string
	Kind                                                 kind.Kind
}

// Fingerprint returns the first 16 hexadecimal digits of SHA-256 over the parts of the identity, joined by line
// feeds.
func (id Identity) Fingerprint() string {
	sum := sha256.Sum256([]byte(strings.Join([]string{
		id.Service, id.Endpoint, id.Audience, id.Direction, id.Status, id.Path, id.Kind.String()}, "\n")))
	return hex.EncodeToString(sum[:8])
}

// First is where a finding was first seen.
type First struct {
	File    string `json:"file"`
	Entry   int    `json:"entry"`
	Pointer string `json:"pointer"`
}

// Status is an entry of statuses. In JSON, a code is a number and anything else a string.
type Status string

// MarshalJSON encodes a code as a number.
func (s Status) MarshalJSON() ([]byte, error) {
	if len(s) == 3 && strings.Trim(string(s), "0123456789") == "" {
		return []byte(s), nil
	}
	return json.Marshal(string(s))
}

// Facts is what captures say about a finding. It is reported, stored and shown; new fields are carried along.
type Facts struct {
	AudienceBy string // how the audience was told: said, recognised or assumed
	Entity     string // what the place stands for; empty where that is not known
	Field      string
	Class      string
	Spots      int
	Captures   int
	Sample     string // a value that was found, masked
	Why        string
}

// Finding is all spots with the same identity.
type Finding struct {
	Identity
	Fingerprint string
	Severity    severity.Severity
	Facts
	Bytes    int
	Detector string
	Grant    contract.Pos // the grant or response that decided, where one did
	First    First
	Excepted *contract.Exception
	Known    bool // it was there before, by a baseline

	capture int    // the number of the last capture that showed it
	why     string // as the spot says it
	prints  map[uint64]struct{}
	bodies  map[uint64]struct{} // of those captures, where the audience was the wrong one
}

// Skipped is a capture that was not evaluated.
type Skipped struct {
	File   string `json:"file"`
	Entry  int    `json:"entry"`
	Reason string `json:"reason"`
}

// Summary holds the totals of a collector.
type Summary struct {
	Captures    int `json:"captures"` // judged and skipped together
	Judged      int `json:"judged"`
	Skipped     int `json:"skipped"`
	Bytes       int `json:"bytes"` // of the judged bodies
	ExcessBytes int `json:"excess_bytes"`
	// records limited to the caller's own of which it could not be told whose they are
	Undetermined int `json:"undetermined"`
}

// Collector collects the outcomes of captures as findings. It keeps one entry per finding, not per spot.
type Collector struct {
	service  string
	findings map[Identity]*Finding
	summary  Summary
	skipped  []Skipped

	unknown    map[uint64]struct{}      // credentials of which it mattered who holds them, and was not known
	columns    map[scan.Column]struct{} // with a value that only a check digit tells
	names      scan.Names
	incomplete []Skipped             // judged up to where their bodies end
	unread     map[Unread]int        // results of queries that were swept, by why
	sent       map[sentBody][]string // the audiences that got it
}

// sentBody is a response body of an endpoint.
type sentBody struct {
	endpoint string
	body     uint64
}

// maxSent limits the bodies that are compared with others.
const maxSent = 1 << 16

// NewCollector returns an empty collector for a service, whose name may be empty.
func NewCollector(service string) *Collector {
	return &Collector{service: service, findings: map[Identity]*Finding{}, sent: map[sentBody][]string{},
		columns: map[scan.Column]struct{}{}, unknown: map[uint64]struct{}{}}
}

// Add adds the outcome of a capture, entry number entry of file.
func (c *Collector) Add(file string, entry int, out *scan.Outcome) {
	c.summary.Captures++
	if out.Skipped != "" {
		c.summary.Skipped++
		c.skipped = append(c.skipped, Skipped{file, entry, out.Skipped})
	} else {
		if out.Incomplete != "" {
			c.incomplete = append(c.incomplete, Skipped{file, entry, out.Incomplete})
		}
		c.summary.Judged++
		c.summary.Bytes += out.Bytes
		c.summary.ExcessBytes += out.Excess
		c.summary.Undetermined += out.Undetermined.Total()
	}
	if out.Unread != "" {
		c.leftUnread(Unread{out.Endpoint, out.Unread}, 1)
	}
	if out.Undetermined.Caller > 0 && out.Holder != 0 {
		c.unknown[out.Holder] = struct{}{}
	}
	if out.Body != 0 {
		c.got(sentBody{out.Endpoint, out.Body}, out.Audience)
	}
	for at := range out.Columns() {
		c.columns[at] = struct{}{}
	}
	c.names.Add(out)
	for i := range out.Spots {
		c.spot(file, entry, out, &out.Spots[i])
	}
}

func (c *Collector) got(b sentBody, audiences ...string) {
	had, known := c.sent[b]
	if !known && len(c.sent) >= maxSent {
		return
	}
	for _, a := range audiences {
		if !slices.Contains(had, a) {
			had = append(had, a)
		}
	}
	c.sent[b] = had
}

// Service returns the service of the captures.
func (c *Collector) Service() string { return c.service }

// Merge adds the findings of another collector, whose captures all come later. The other collector must not be used
// afterwards.
func (c *Collector) Merge(later *Collector) {
	c.summary.Captures += later.summary.Captures
	c.summary.Judged += later.summary.Judged
	c.summary.Skipped += later.summary.Skipped
	c.summary.Bytes += later.summary.Bytes
	c.summary.ExcessBytes += later.summary.ExcessBytes
	c.summary.Undetermined += later.summary.Undetermined
	c.skipped = append(c.skipped, later.skipped...)
	c.incomplete = append(c.incomplete, later.incomplete...)
	for why, n := range later.unread {
		c.leftUnread(why, n)
	}
	c.Remember(later)
	for b, audiences := range later.sent {
		c.got(b, audiences...)
	}
	for id, g := range later.findings {
		f := c.findings[id]
		if f == nil {
			g.capture = 0 // captures are counted by another number here
			c.findings[id] = g
			continue
		}
		if g.Severity > f.Severity {
			f.Severity, f.Entity, f.Field, f.Class, f.Sample, f.Why, f.why, f.Detector, f.Grant = g.Severity, g.Entity,
				g.Field, g.Class, g.Sample, g.Why, g.why, g.Detector, g.Grant
		} else if f.Sample == "null" && g.Sample != "" && g.Severity == f.Severity {
			f.Sample = g.Sample
		}
		f.Captures += g.Captures
		f.Spots += g.Spots
		f.Bytes += g.Bytes
		for print := range g.prints {
			f.print(print)
		}
		for body := range g.bodies {
			keep(&f.bodies, body)
		}
	}
}

// IdentityOf returns the identity of a spot of a capture.
func IdentityOf(service string, out *scan.Outcome, s *scan.Spot) Identity {
	id := Identity{Service: service, Endpoint: out.Endpoint, Audience: out.Audience, Direction: Response,
		Status: out.Status, Path: s.Path, Kind: s.Kind}
	if s.Request {
		id.Direction = Request
	}
	if s.Kind == kind.UnknownEndpoint {
		id.Audience, id.Status = "", ""
	}
	return id
}

func (c *Collector) spot(file string, entry int, out *scan.Outcome, s *scan.Spot) {
	id := IdentityOf(c.service, out, s)
	f := c.findings[id]
	if f == nil {
		f = &Finding{Identity: id, Fingerprint: id.Fingerprint(), First: First{file, entry, s.Pointer}}
		if id.Audience != "" {
			f.AudienceBy = out.AudienceBy
		}
		c.findings[id] = f
	}
	if s.Severity > f.Severity {
		f.take(s, out)
	}
	if f.Sample == "null" && s.Sample != "" && s.Severity == f.Severity {
		f.Sample = s.Sample
	}
	if f.capture != c.summary.Captures {
		f.capture = c.summary.Captures
		f.Captures++
	}
	f.Spots += 1 + s.Folded
	f.Bytes += s.Bytes
	if s.Print != 0 {
		f.print(s.Print)
	}
	for _, print := range s.Prints {
		f.print(print)
	}
	if s.Kind == kind.WrongAudience && out.Body != 0 {
		keep(&f.bodies, out.Body)
	}
}

func (f *Finding) print(hash uint64) { keep(&f.prints, hash) }

// keep adds to a set of limited size.
func keep(set *map[uint64]struct{}, hash uint64) {
	if len(*set) < maxPrints {
		if *set == nil {
			*set = map[uint64]struct{}{}
		}
		(*set)[hash] = struct{}{}
	}
}

// maxPrints limits the values and bodies of a finding that can be recognised elsewhere.
const maxPrints = 64

// Prints returns the keyed hashes of the finding's values, sorted.
func (f *Finding) Prints() []uint64 { return slices.Sorted(maps.Keys(f.prints)) }

// take makes s the spot that describes the finding.
func (f *Finding) take(s *scan.Spot, out *scan.Outcome) {
	f.Severity, f.Entity, f.Field, f.Class = s.Severity, s.Entity, s.Field, s.Class.String()
	f.Sample, f.why, f.Detector = s.Sample, s.Why(), s.Detector
	f.Why = f.why
	switch {
	case s.Grant != nil:
		f.Grant = s.Grant.Pos
	case out.Response != nil:
		f.Grant = out.Response.Pos
	}
}

// Summary returns the totals so far.
func (c *Collector) Summary() Summary { return c.summary }

// Recall takes the samples and prints of findings from an earlier collection of the same captures, where this one was
// made from outlines of them.
func (c *Collector) Recall(earlier *Collector) {
	for id, f := range c.findings {
		e := earlier.findings[id]
		if e == nil {
			continue
		}
		if f.Sample == "" {
			f.Sample = e.Sample
		}
		for print := range e.prints {
			f.print(print)
		}
	}
}

// Remember takes what only the whole run tells from another part of it.
func (c *Collector) Remember(other *Collector) {
	maps.Copy(c.columns, other.columns)
	maps.Copy(c.unknown, other.unknown)
	c.names.Merge(&other.names)
}

// Late reports whether responses told who holds credentials only after it had mattered.
func (c *Collector) Late(holders map[uint64]uint64) bool {
	for credentials := range c.unknown {
		if holders[credentials] != 0 {
			return true
		}
	}
	return false
}

// Data lists the places below which names turned out to be data.
func (c *Collector) Data() []scan.Column { return c.names.Data() }

// Columns lists the columns that show something which only a check digit tells: they decide whether it counts.
func (c *Collector) Columns() []scan.Column { return slices.Collect(maps.Keys(c.columns)) }

// Incomplete lists the captures whose bodies are cut off and were evaluated up to there.
func (c *Collector) Incomplete() []Skipped { return c.incomplete }

// Skipped lists the captures that were not evaluated, in order.
func (c *Collector) Skipped() []Skipped { return c.skipped }

// anyKind is an identity without its kind.
type anyKind struct{ endpoint, audience, direction, status, path string }

func (id *Identity) place() anyKind {
	return anyKind{id.Endpoint, id.Audience, id.Direction, id.Status, id.Path}
}

// Findings returns the findings, sorted by severity, endpoint, audience, status, path and kind. Of the five kinds
// of exposure at one place it keeps the most severe.
func (c *Collector) Findings() []*Finding {
	gravest := map[anyKind]*Finding{}
	for _, f := range c.findings {
		if !f.Kind.Exposure() {
			continue
		}
		at := f.place()
		if g := gravest[at]; g == nil || f.Severity > g.Severity || f.Severity == g.Severity && f.Kind < g.Kind {
			gravest[at] = f
		}
	}
	var all []*Finding
	for _, f := range c.findings {
		if !f.Kind.Exposure() || gravest[f.place()] == f {
			all = append(all, f)
		}
	}
	for _, f := range all {
		if others := c.alsoGot(f); len(others) > 0 {
			f.Why = f.why + "; the very same body went to " + strings.Join(others, " and ")
		}
	}
	sort.Slice(all, func(i, k int) bool { return less(all[i], all[k]) })
	return all
}

// alsoGot lists the other audiences that received the same body, byte by byte: a response made for one of them
// reached all, for example through a shared cache.
func (c *Collector) alsoGot(f *Finding) []string {
	others := map[string]struct{}{}
	for body := range f.bodies {
		for _, a := range c.sent[sentBody{f.Endpoint, body}] {
			if a != f.Audience {
				others[a] = struct{}{}
			}
		}
	}
	return slices.Sorted(maps.Keys(others))
}

func less(a, b *Finding) bool {
	if a.Severity != b.Severity {
		return a.Severity > b.Severity
	}
	for _, pair := range [][2]string{{a.Endpoint, b.Endpoint}, {a.Audience, b.Audience}, {a.Status, b.Status},
		{a.Path, b.Path}, {a.Kind.String(), b.Kind.String()}} {
		if pair[0] != pair[1] {
			return pair[0] < pair[1]
		}
	}
	return a.Direction < b.Direction
}

// Except marks the findings that an exception covers on a day, written YYYY-MM-DD in UTC.
func Except(all []*Finding, exceptions []*contract.Exception, today string) {
	for _, f := range all {
		for _, x := range exceptions {
			if x.Endpoint == f.Endpoint && x.Kind == f.Kind.String() && x.Covers(f.Path) &&
				(x.Until == "" || today <= x.Until) {
				f.Excepted = x
				break
			}
		}
	}
}

// Gravest returns the highest severity of the findings that are not excepted, or 0.
func Gravest(all []*Finding) severity.Severity {
	var worst severity.Severity
	for _, f := range all {
		if f.Excepted == nil && !f.Known {
			worst = max(worst, f.Severity)
		}
	}
	return worst
}

// Unread is why results of queries were swept: it is not known what their requests ask for.
type Unread struct{ Endpoint, Why string }

func (c *Collector) leftUnread(why Unread, n int) {
	if c.unread == nil {
		c.unread = map[Unread]int{}
	}
	c.unread[why] += n
}

// Unread says which results of queries were swept, and why, in order.
func (c *Collector) Unread() (all []string) {
	for why, n := range c.unread {
		captures := "captures"
		if n == 1 {
			captures = "capture"
		}
		all = append(all, fmt.Sprintf("%s: %d %s swept, as %s", why.Endpoint, n, captures, why.Why))
	}
	slices.Sort(all)
	return all
}
