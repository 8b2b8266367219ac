package service

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"io"
	"net/url"
	"sort"
	"strings"
	"time"

	"inkret/core/contract"
	"inkret/core/detect"
	"inkret/core/exchange"
	"inkret/core/finding"
	"inkret/core/scan"
	"inkret/intake"
	"inkret/store"
)

// longestName is how long a recording's name may be, in bytes.
const longestName = 300

// readAhead is how many captures are read while one is judged.
const readAhead = 4

// Upload takes in a recording while it arrives. The batch is seen by nobody
// before it is complete; when r breaks off, nothing of it stays. A recording
// that itself ends early is taken in up to there, and the batch says so.
func (s *Service) Upload(ctx context.Context, who Caller, service, name, audience string, r io.Reader) (store.Batch, error) {
	f, err := s.contracts(ctx, service)
	if err != nil {
		return store.Batch{}, err
	}
	if audience != "" && f.contracts.Audience(audience) == nil {
		return store.Batch{}, problem(Invalid, "it has "+strings.Join(s.Audiences(ctx, service), ", "), "the service %q has no audience %q", service, audience)
	}
	if name = strings.TrimSpace(name); name == "" || len(name) > longestName {
		return store.Batch{}, problem(Invalid, "", "a recording needs a name of at most %d bytes", longestName)
	}
	in, err := s.store.Begin(ctx, store.Batch{Service: service, Name: name, Audience: audience, Author: who.Name, Started: s.now()})
	if err != nil {
		return store.Batch{}, err
	}
	up := &upload{Service: s, in: in, name: name, audience: audience, judge: scan.NewJudge(f.contracts),
		collector: finding.NewCollector(service), endpoints: map[string]*store.SeenEndpoint{}, service: service}
	b, err := up.run(ctx, r)
	if err != nil {
		if undo := in.Discard(context.WithoutCancel(ctx)); undo != nil {
			s.log.Error("a broken upload could not be taken back", "error", undo.Error())
		}
		return b, err
	}
	b.Service, b.Name, b.Audience, b.Author, b.Started = service, name, audience, who.Name, s.now()
	findings := up.collector.Findings()
	finding.Except(findings, f.contracts.Exceptions, s.now().UTC().Format(time.DateOnly))
	b.BySeverity = map[string]int{}
	for _, one := range findings {
		b.BySeverity[one.Severity.String()]++
	}
	shown, exercised := up.exposed()
	b, err = in.Finish(ctx, b, up.rows(findings), up.seen(), shown, exercised)
	if err != nil {
		in.Discard(context.WithoutCancel(ctx))
		return b, err
	}
	s.log.Info("recording taken in", "batch", b.ID, "service", service, "captures", b.Captures, "findings", b.Findings, "new", b.NewFindings,
		"repeated", b.Repeated, "person", who.ID)
	return b, s.noteCoverage(ctx, service)
}

// upload is one recording being taken in.
type upload struct {
	*Service
	in        *store.Intake
	service   string
	name      string
	audience  string
	judge     *scan.Judge
	collector *finding.Collector
	endpoints map[string]*store.SeenEndpoint
	reading   intake.Options
	mapping   *contract.Mapping
}

// transport notes that what carries the recording failed, to tell that from a
// recording that ends early.
type transport struct {
	r      io.Reader
	failed error
}

func (t *transport) Read(p []byte) (int, error) {
	n, err := t.r.Read(p)
	if err != nil && err != io.EOF {
		t.failed = err
	}
	return n, err
}

func (u *upload) run(ctx context.Context, r io.Reader) (store.Batch, error) {
	carrier, digest := &transport{r: r}, sha256.New()
	body := io.TeeReader(carrier, digest)
	ctx, stop := context.WithCancel(ctx)
	defer stop()
	captures, read := make(chan *exchange.Capture, readAhead), make(chan error, 1)
	go func() {
		defer close(captures)
		read <- intake.Read(u.name, body, u.reading, func(c *exchange.Capture) error {
			select {
			case captures <- c:
				return nil
			case <-ctx.Done():
				return ctx.Err()
			}
		})
	}()
	var failed error
	for c := range captures {
		if failed == nil {
			if failed = u.capture(ctx, c); failed != nil {
				stop() // the reader stops too, and the channel is closed
			}
		}
	}
	err := <-read
	if failed != nil {
		return store.Batch{}, failed
	}
	if carrier.failed != nil {
		return store.Batch{}, problem(Invalid, "send it again; nothing of it was kept", "the recording broke off on its way")
	}
	if ctx.Err() != nil {
		return store.Batch{}, ctx.Err()
	}
	var b store.Batch
	var unread *intake.Error
	if errors.As(err, &unread) {
		if u.collector.Summary().Captures == 0 {
			return b, problem(Invalid, "", "%s", unread.Error())
		}
		b.Problem = unread.Error()
	} else if err != nil {
		return b, err
	}
	if _, err := io.Copy(io.Discard, body); err != nil {
		return b, problem(Invalid, "send it again; nothing of it was kept", "the recording broke off on its way")
	}
	b.Digest = hex.EncodeToString(digest.Sum(nil))
	sum := u.collector.Summary()
	b.Captures, b.Judged, b.Skipped, b.Bytes, b.Excess = sum.Captures, sum.Judged, sum.Skipped, int64(sum.Bytes), int64(sum.ExcessBytes)
	b.SkipReasons = skipReasons(u.collector.Skipped())
	return b, nil
}

func (u *upload) capture(ctx context.Context, c *exchange.Capture) error {
	c.Audience = u.audience
	out := u.judge.Capture(c)
	u.collector.Add(c.File, c.Entry, &out)
	row := store.Capture{Entry: c.Entry, Method: c.Request.Method, Audience: out.Audience, AudienceBy: out.AudienceBy, Status: c.Response.Status,
		Started: c.Started, Bytes: out.Bytes, Excess: out.Excess, Skipped: out.Skipped}
	held := exchanged{RequestHeader: c.Request.Header, ResponseHeader: c.Response.Header, ResponseMissing: c.Response.Missing}
	if c.Request.URL != nil {
		row.URL, held.URL = maskURL(c.Request.URL), c.Request.URL.String()
	}
	if out.Known || out.Skipped == "" || len(out.Spots) > 0 { // of what is only passed over, no endpoint is noted
		row.EndpointID = store.EndpointID(u.service, out.Endpoint)
		e := u.endpoints[out.Endpoint]
		if e == nil {
			e = &store.SeenEndpoint{Text: out.Endpoint, Team: out.Team}
			u.endpoints[out.Endpoint] = e
		}
		if out.Skipped == "" {
			e.Captures++
			e.Bytes += int64(out.Bytes)
			e.Excess += int64(out.Excess)
		}
	}
	if out.Bytes > 0 { // of what was not read, and of other servers, no body is kept
		held.RequestBody, held.ResponseBody = c.Request.Body, c.Response.Body
	}
	var err error
	if row.Sealed, err = u.vault.seal(held); err != nil {
		return err
	}
	return u.in.Add(ctx, row, occurrences(u.service, &out))
}

// occurrences gives the findings that an outcome shows, each with its first spot.
func occurrences(service string, out *scan.Outcome) []store.Occurrence {
	var all []store.Occurrence
	index := map[finding.Identity]int{}
	for i := range out.Spots {
		s := &out.Spots[i]
		id := finding.IdentityOf(service, out, s)
		k, known := index[id]
		if !known {
			k = len(all)
			index[id] = k
			all = append(all, store.Occurrence{Finding: id.Fingerprint(), Pointer: s.Pointer, Offset: s.Offset})
		}
		all[k].Bytes += s.Bytes
		all[k].Spots++
	}
	return all
}

func (u *upload) rows(findings []*finding.Finding) []store.Finding {
	return findingRows(u.service, findings, func(endpoint string) string {
		if e := u.endpoints[endpoint]; e != nil {
			return e.Team
		}
		return ""
	})
}

// findingRows turns findings into records.
func findingRows(service string, findings []*finding.Finding, team func(endpoint string) string) []store.Finding {
	out := make([]store.Finding, len(findings))
	for i, f := range findings {
		out[i] = store.Finding{
			ID: f.Fingerprint, Service: service, Kind: f.Kind.String(), Severity: int(f.Severity), Endpoint: f.Endpoint, EndpointID: store.EndpointID(service, f.Endpoint),
			Team: team(f.Endpoint), Audience: f.Audience, AudienceBy: f.AudienceBy, Direction: f.Direction, Status: f.Status, Path: f.Path, Entity: f.Entity,
			Field: f.Field, Class: f.Class, Spots: f.Spots, Captures: f.Captures, Bytes: int64(f.Bytes), Sample: f.Sample, Why: f.Why,
			GrantFile: f.Grant.File, GrantLine: f.Grant.Line,
		}
		if f.Excepted != nil {
			out[i].Excepted = f.Excepted.Reason
		}
	}
	return out
}

// exposed gives what the captures have shown of what is granted.
func (u *upload) exposed() (shown []store.Shown, exercised []store.Exercised) {
	met := map[store.Shown]bool{}
	for _, e := range u.judge.Exercises() {
		exercised = append(exercised, store.Exercised{Endpoint: e.Endpoint, Audience: e.Audience, Status: e.Status, Captures: e.Captures})
		for _, m := range e.Members() {
			one := store.Shown{Endpoint: e.Endpoint, Audience: e.Audience}
			one.Entity, one.Field = m.Grant.Behind()
			if one.Field != "" && !met[one] {
				met[one] = true
				shown = append(shown, one)
			}
		}
	}
	return shown, exercised
}

func (u *upload) seen() []store.SeenEndpoint {
	var all []store.SeenEndpoint
	for _, e := range u.endpoints {
		all = append(all, *e)
	}
	return all
}

func skipReasons(all []finding.Skipped) []store.SkipReason {
	counts := map[string]int{}
	for _, s := range all {
		counts[s.Reason]++
	}
	reasons := []store.SkipReason{}
	for reason, n := range counts {
		reasons = append(reasons, store.SkipReason{Reason: reason, Captures: n})
	}
	sort.Slice(reasons, func(i, k int) bool {
		return reasons[i].Captures > reasons[k].Captures || reasons[i].Captures == reasons[k].Captures && reasons[i].Reason < reasons[k].Reason
	})
	const kept = 20
	return reasons[:min(len(reasons), kept)]
}

// hidden stands for a value that is not shown.
const hidden = "•••"

// maskURL writes an address so that it can be shown: query values hidden, and
// in the path what a detector recognises.
func maskURL(u *url.URL) string {
	var b strings.Builder
	if u.Host != "" {
		b.WriteString(u.Scheme + "://" + u.Host)
	}
	for i, segment := range strings.Split(u.EscapedPath(), "/") {
		if i > 0 {
			b.WriteByte('/')
		}
		plain, err := url.PathUnescape(segment)
		if err != nil {
			plain = segment
		}
		value := []byte(plain)
		if hit := (&detect.Set{}).Value(value, detect.TraitsOf(value)); hit.Found() {
			b.WriteString(hidden)
			continue
		}
		b.WriteString(segment)
	}
	separator := "?"
	for _, pair := range strings.Split(u.RawQuery, "&") {
		if pair == "" {
			continue
		}
		name, _, valued := strings.Cut(pair, "=")
		b.WriteString(separator + name)
		if valued {
			b.WriteString("=" + hidden)
		}
		separator = "&"
	}
	return b.String()
}

// credentialFields are header fields that carry credentials whatever they hold.
var credentialFields = map[string]bool{"authorization": true, "proxy-authorization": true, "cookie": true, "set-cookie": true,
	"x-api-key": true, "x-csrf-token": true}

// maskHeader hides the values of header fields that carry credentials, by their
// name or by what is recognised in them.
func maskHeader(h exchange.Header) exchange.Header {
	out := make(exchange.Header, len(h))
	for i, f := range h {
		value := []byte(f.Value)
		switch name := strings.ToLower(f.Name); {
		case credentialFields[name]:
			scheme, _, more := strings.Cut(f.Value, " ")
			f.Value = hidden
			if more && strings.HasSuffix(name, "authorization") {
				f.Value = scheme + " " + hidden
			}
		case detect.Name([]byte(name)) > 0 || (&detect.Set{}).Value(value, detect.TraitsOf(value)).Found():
			f.Value = hidden
		case name == "location" || name == "referer" || name == ":path":
			if u, err := url.Parse(f.Value); err == nil {
				f.Value = maskURL(u)
			}
		}
		out[i] = f
	}
	return out
}

// Batches lists a page of batches.
func (s *Service) Batches(ctx context.Context, page store.Page) ([]store.Batch, int, error) {
	return s.store.Batches(ctx, page)
}

// Batch gives one batch.
func (s *Service) Batch(ctx context.Context, id int64) (store.Batch, error) {
	b, err := s.store.Batch(ctx, id)
	return b, found(err, "batch %d", id)
}

// Captures lists a page of captures.
func (s *Service) Captures(ctx context.Context, by store.CaptureFilter, page store.Page) ([]store.Capture, int, error) {
	return s.store.Captures(ctx, by, page)
}

// CaptureView is a capture as it may be shown: masked.
type CaptureView struct {
	store.Capture
	RequestHeader  exchange.Header
	ResponseHeader exchange.Header
	JudgedBy       string // contract or sweep; empty when it was skipped
	Body           *scan.WireNode
	Cut            int
	Command        string
	Fingerprints   map[*scan.Spot]string
}

// Capture gives one capture, its body judged anew by the contracts in force and
// drawn as it was on the wire.
func (s *Service) Capture(ctx context.Context, id int64) (CaptureView, error) {
	c, err := s.store.Capture(ctx, id)
	if err != nil {
		return CaptureView{}, found(err, "capture %d", id)
	}
	held, err := s.vault.open(c.Sealed)
	if err != nil {
		return CaptureView{}, err
	}
	v := CaptureView{Capture: c, RequestHeader: maskHeader(held.RequestHeader), ResponseHeader: maskHeader(held.ResponseHeader), Fingerprints: map[*scan.Spot]string{}}
	v.Command = command(c, held)
	if len(held.ResponseBody) == 0 {
		return v, nil
	}
	f, err := s.contracts(ctx, c.Service)
	if err != nil {
		return v, err
	}
	again, err := held.capture(c)
	if err != nil {
		return v, err
	}
	wire := scan.NewWire(f.contracts)
	out := scan.NewJudge(f.contracts).Watch(again, wire)
	if out.Skipped != "" {
		return v, nil
	}
	v.JudgedBy = "sweep"
	if out.Response != nil {
		v.JudgedBy = "contract"
	}
	v.Body, v.Cut = wire.Root(out.Spots), wire.Cut
	for i := range out.Spots {
		spot := &out.Spots[i]
		v.Fingerprints[spot] = finding.IdentityOf(c.Service, &out, spot).Fingerprint()
	}
	return v, nil
}

// capture puts a sealed capture together again.
func (e *exchanged) capture(c store.Capture) (*exchange.Capture, error) {
	u, err := url.Parse(e.URL)
	if err != nil {
		return nil, errors.New("the address of a sealed capture is damaged")
	}
	out := &exchange.Capture{Entry: c.Entry, Started: c.Started,
		Request:  exchange.Request{Method: c.Method, URL: u, Header: e.RequestHeader, Body: e.RequestBody},
		Response: exchange.Response{Status: c.Status, Header: e.ResponseHeader, Body: e.ResponseBody}}
	if c.AudienceBy == contract.Said {
		out.Audience = c.Audience
	}
	return out, nil
}

// command writes a command that makes the same call, credentials left for the
// one who runs it to fill in.
func command(c store.Capture, held exchanged) string {
	var b strings.Builder
	b.WriteString("curl")
	if c.Method != "GET" {
		b.WriteString(" -X " + shellWord(c.Method))
	}
	for _, f := range held.RequestHeader {
		switch name := strings.ToLower(f.Name); {
		case name == "authorization" || name == "cookie":
			b.WriteString(" -H " + shellWord(f.Name+": $"+strings.ToUpper(strings.ReplaceAll(name, "-", "_"))))
		case name == "accept":
			b.WriteString(" -H " + shellWord(f.Name+": "+f.Value))
		}
	}
	b.WriteString(" " + shellWord(c.URL))
	return b.String()
}

// shellWord quotes a word for a POSIX shell; the name of a variable for
// credentials is left to be filled in.
func shellWord(s string) string {
	if name, value, ok := strings.Cut(s, ": $"); ok && strings.Trim(value, "ABCDEFGHIJKLMNOPQRSTUVWXYZ_") == "" {
		return `"` + name + `: $` + value + `"`
	}
	return "'" + strings.ReplaceAll(s, "'", `'\''`) + "'"
}
