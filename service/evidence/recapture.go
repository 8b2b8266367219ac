package evidence

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/url"
	"slices"
	"strings"
	"time"

	"inkret/core/contract"
	"inkret/core/exchange"
	"inkret/core/finding"
	"inkret/core/shown"
	"inkret/outbound"
	"inkret/service/base"
	"inkret/service/vault"
	"inkret/store"
)

// Recorded calls are sent again to check whether a fix works.

// CallAs is who calls are made as: an audience, and one of several people of it.
type CallAs struct {
	Audience string `json:"audience"`         // by name
	Person   string `json:"person,omitempty"` // what the person is called; empty for the first
}

// String writes it for people.
func (a CallAs) String() string {
	if a.Person == "" {
		return a.Audience
	}
	return a.Audience + " (" + a.Person + ")"
}

// longestPerson is how long the name of a person may be whose credentials are kept, in bytes.
const longestPerson = 100

// SetCredentials stores the header fields used to send calls as an audience. They are never shown again. An empty
// list removes them.
func (s *Evidence) SetCredentials(ctx context.Context, who base.Caller, service string, of CallAs,
	fields exchange.Header) error {
	f, err := s.base.Contracts(ctx, service)
	if err != nil {
		return err
	}
	if _, err := s.said(ctx, service, f.Contracts, Said{Audience: of.Audience}); err != nil {
		return err
	}
	if of.Person = strings.TrimSpace(of.Person); len(of.Person) > longestPerson ||
		strings.ContainsAny(of.Person, "\r\n\x00") {
		return base.NewProblem(base.Invalid, "", "a person is called by a name of one line, of %d bytes at the most",
			longestPerson)
	}
	c := store.Credentials{Audience: of.Audience, Person: of.Person, Author: who.Name, At: s.base.Now()}
	for _, field := range fields {
		if !fieldName(field.Name) || strings.ContainsAny(field.Value, "\r\n\x00") || field.Value == "" {
			return base.NewProblem(base.Invalid, "a field is written as in: Authorization: Bearer …",
				"a header field needs a name and a value of one line")
		}
		c.Names = append(c.Names, field.Name)
	}
	plain, err := json.Marshal(fields)
	if err != nil {
		return err
	}
	c.Sealed = s.vault.Seal(plain, vault.SecretAs)
	did := "set credentials"
	if len(fields) == 0 {
		did = "remove credentials"
	}
	return s.store.SetCredentials(ctx, service, c, s.base.Did(who, did, service, of.String()+": "+strings.Join(c.Names,
		", ")))
}

// fieldName reports whether a text is a valid header field name (RFC 9110 section 5.1).
func fieldName(name string) bool {
	return name != "" && strings.Trim(strings.ToLower(name),
		"abcdefghijklmnopqrstuvwxyz0123456789-_.!#$%&'*+^`|~") == ""
}

// Credentials lists the audiences of a service that have stored credentials.
func (s *Evidence) Credentials(ctx context.Context, service string) ([]store.Credentials, error) {
	if _, err := s.base.Contracts(ctx, service); err != nil {
		return nil, err
	}
	return s.store.AllCredentials(ctx, service)
}

// AllowServer allows calls to a server of the contracts. address is where the server is reached, if not at its own
// name.
func (s *Evidence) AllowServer(ctx context.Context, who base.Caller, service, server, address string) error {
	f, err := s.base.Contracts(ctx, service)
	if err != nil {
		return err
	}
	parsed, err := contract.ParseServer(server)
	if err != nil {
		return base.NewProblem(base.Invalid, "", "%v", err)
	}
	declared := slices.ContainsFunc(f.Contracts.Servers,
		func(d contract.Server) bool { return d.URL() == parsed.URL() })
	if !declared && len(f.Contracts.Servers) > 0 {
		var names []string
		for _, d := range f.Contracts.Servers {
			names = append(names, d.URL())
		}
		return base.NewProblem(base.Invalid, "its contract declares "+strings.Join(names, ", "),
			"%s is no server of %s", server,
			service)
	}
	if address != "" {
		at, err := url.Parse(address)
		if err != nil || at.Host == "" || at.Scheme != "http" && at.Scheme != "https" ||
			strings.Trim(at.Path, "/") != "" || at.RawQuery != "" || at.User != nil {
			return base.NewProblem(base.Invalid, "one is written http://127.0.0.1:7466",
				"%q is not where a server is reached",
				address)
		}
	}
	if err := (&outbound.Server{Base: urlOf(parsed.URL()), Address: urlOf(address)}).Check(ctx); err != nil {
		return base.NewProblem(base.Invalid, "say where it is reached: inkret service allow "+parsed.URL()+
			" http://HOST:PORT", "every call would be refused: %v", err)
	}
	return s.store.AllowServer(ctx, service, store.AllowedServer{Server: parsed.URL(), Address: address,
		Author: who.Name, At: s.base.Now()},
		s.base.Did(who, "allow server", service, strings.TrimSpace(parsed.URL()+" "+address)))
}

// urlOf parses an address that is known to be one, nil for none.
func urlOf(text string) *url.URL {
	u, err := url.Parse(text)
	if err != nil || text == "" {
		return nil
	}
	return u
}

// ForbidServer withdraws what [Evidence.AllowServer] allowed.
func (s *Evidence) ForbidServer(ctx context.Context, who base.Caller, service, server string) error {
	err := s.store.ForbidServer(ctx, service, server, s.base.Did(who, "forbid server", service, server))
	return base.Found(err, "server %s that is allowed", server)
}

// CalledServer is a server of a service's contracts, and whether calls to it are allowed.
type CalledServer struct {
	store.AllowedServer
	Allowed bool // calls to it are allowed
}

// Servers lists the servers of a service, those that its contracts declare first.
func (s *Evidence) Servers(ctx context.Context, service string) ([]CalledServer, error) {
	f, err := s.base.Contracts(ctx, service)
	if err != nil {
		return nil, err
	}
	allowed, err := s.store.AllowedServers(ctx, service)
	if err != nil {
		return nil, err
	}
	var all []CalledServer
	for _, d := range f.Contracts.Servers {
		all = append(all, CalledServer{AllowedServer: store.AllowedServer{Server: d.URL()}})
	}
	for _, a := range allowed {
		i := slices.IndexFunc(all, func(c CalledServer) bool { return c.Server == a.Server })
		if i < 0 {
			all = append(all, CalledServer{a, true})
		} else {
			all[i] = CalledServer{a, true}
		}
	}
	return all, nil
}

// Again selects the calls to send again. Exactly one of Capture, Endpoint and Batch is set.
type Again struct {
	Capture  int64  // its number, 0 for none
	Endpoint string // id: the newest of each different call
	Batch    int64  // its number, 0 for none
	Audience string // empty for that of each capture
	Person   string // one of several of the audience; empty for the first
	Writes   bool   // calls that may change something are made too
}

// maxAgain limits how many calls are sent at once.
const maxAgain = 100

// Repeat sends recorded calls again and stores the answers as a new batch.
func (s *Evidence) Repeat(ctx context.Context, who base.Caller, again Again) (store.Batch, error) {
	calls, err := s.repeated(ctx, again)
	if err != nil {
		return store.Batch{}, err
	}
	service := calls[0].Service
	if !who.MayIn(service, base.Reviewer) {
		return store.Batch{}, who.NotIn(service, base.Reviewer)
	}
	r, err := s.recaller(ctx, service)
	if err != nil {
		return store.Batch{}, err
	}
	var all []sending
	for i := range calls {
		c, err := r.prepare(&calls[i], again)
		if err != nil {
			return store.Batch{}, err
		}
		all = append(all, sending{c, calls[i].ID, again.Person})
	}
	name := fmt.Sprintf("again: capture %d", again.Capture)
	switch {
	case again.Endpoint != "":
		name = "again: " + calls[0].Endpoint
	case again.Batch != 0:
		name = fmt.Sprintf("again: batch %d", again.Batch)
	}
	b, err := s.send(ctx, who, store.Batch{Service: service, Name: name, Audience: again.Audience,
		Origin: store.FromRecapture}, r, &outgoing{all: all})
	if err != nil {
		return b, err
	}
	s.base.Log.Info("calls made again", "batch", b.ID, "service", service, "calls", len(calls), "person", who.ID)
	return b, nil
}

// sending is a call that is about to be sent.
type sending struct {
	call    *exchange.Capture
	repeats int64  // the capture that it is made of, 0 for none that is kept
	person  string // whose credentials it has, of several of its audience
}

// outgoing is the calls that become one batch.
type outgoing struct {
	all   []sending
	pause time.Duration           // between two of them
	whole func(answers []sending) // if set, looks at all answers before any is stored
}

// send sends calls one after the other, with a pause between them, and stores the answers as a batch, which is then
// complete.
func (s *Evidence) send(ctx context.Context, who base.Caller, b store.Batch, r *recaller,
	out *outgoing) (store.Batch, error) {
	b.Author, b.By, b.Started, b.BySeverity = who.Name, who.ID, s.base.Now(), map[string]int{}
	b, err := s.store.OpenBatch(ctx, b, func(b store.Batch) store.TrailEntry {
		return s.base.Did(who, "repeat calls", fmt.Sprintf("batch %d", b.ID),
			strings.TrimSpace(fmt.Sprintf("%s: %s, %d calls %s", b.Service, b.Name, len(out.all), b.Audience)))
	})
	if err != nil {
		return b, base.Plain(err)
	}
	b, met, err := s.call(ctx, b, r, out)
	if _, closing := s.store.CloseBatch(context.WithoutCancel(ctx), b.ID, 0, nil); err == nil {
		err = closing
	}
	if err == nil {
		b.Growing = false
		b, err = s.completed(ctx, b, store.Event{Author: who.Name, At: s.base.Now()}, met)
	}
	if err != nil {
		return b, base.Plain(err)
	}
	b.Growing = false
	return b, s.review.NoteCoverage(ctx, b.Service)
}

// call sends prepared calls one after the other.
func (s *Evidence) call(ctx context.Context, b store.Batch, r *recaller, out *outgoing) (store.Batch,
	*finding.Collector, error) {
	keeping, err := s.store.Keeping(ctx, b.Service)
	if err != nil {
		return b, nil, err
	}
	all := out.all
	if out.whole != nil {
		for i := range all {
			if err := s.ask(ctx, r, out, i); err != nil {
				return b, nil, err
			}
		}
		out.whole(all)
	}
	severities, met := map[string]int{}, finding.NewCollector(b.Service)
	for i := range all {
		c := all[i].call
		if out.whole == nil {
			if err := s.ask(ctx, r, out, i); err != nil {
				return b, nil, err
			}
		}
		g, err := s.newGathering(ctx, b.Service, r.contracts)
		if err != nil {
			return b, nil, err
		}
		g.arrives = true
		g.judge.Know(b.Known.Known)
		one, err := s.sealed(g, c, keeping.Bodies)
		if err != nil {
			return b, nil, err
		}
		met.Remember(g.collector)
		one.Repeats, one.Person = all[i].repeats, all[i].person
		var rows []store.Rejudged
		if b, rows, err = s.grow(ctx, b, severities, g, []store.Rejudged{one},
			func(b *store.Batch) { b.Growing = true }); err != nil {
			return b, nil, err
		}
		s.tell(b, rows, g)
	}
	return b, met, nil
}

// ask sends the i-th call and sets its answer.
func (s *Evidence) ask(ctx context.Context, r *recaller, out *outgoing, i int) error {
	if i > 0 && out.pause > 0 {
		select {
		case <-time.After(out.pause):
		case <-ctx.Done():
			return ctx.Err()
		}
	}
	c := out.all[i].call
	c.Started, c.Entry = s.base.Now(), i
	answer, err := outbound.Call(ctx, r.server(c.Request.URL), &c.Request)
	var refused *outbound.Refused
	switch {
	case errors.As(err, &refused):
		answer.Missing = "the call was not made: " + refused.Reason
	case ctx.Err() != nil:
		return ctx.Err()
	case err != nil:
		answer.Missing = "the call failed: " + err.Error()
	}
	c.Response, c.Incomplete = answer.Response, answer.Incomplete
	return nil
}

// repeated returns the captures whose calls are to be sent. Of identical calls it keeps the newest.
func (s *Evidence) repeated(ctx context.Context, again Again) ([]store.Capture, error) {
	if again.Capture != 0 {
		c, err := s.store.Capture(ctx, again.Capture)
		return []store.Capture{c}, base.Found(err, "capture %d", again.Capture)
	}
	by := store.CaptureFilter{Batch: again.Batch, Endpoint: again.Endpoint}
	if by.Batch == 0 && by.Endpoint == "" {
		return nil, base.NewProblem(base.Invalid, "", "say which calls: a capture, an endpoint or a batch")
	}
	rows, _, _, err := s.store.Captures(ctx, by, store.Page{Number: 1, Size: 10 * maxAgain})
	if err != nil {
		return nil, err
	}
	met := map[string]bool{}
	var calls []store.Capture
	writes := 0
	for _, row := range rows {
		if row.Skipped == "another server" || len(calls) == maxAgain {
			continue
		}
		if !safe(row.Method) && !again.Writes {
			writes++
			continue
		}
		c, err := s.store.Capture(ctx, row.ID)
		if err != nil {
			return nil, err
		}
		e, err := s.vault.OpenExchange(c.Sealed)
		if err != nil {
			return nil, err
		}
		if key := c.Method + " " + e.URL + " " + c.Audience + " " + string(e.RequestBody); !met[key] {
			met[key] = true
			calls = append(calls, c)
		}
	}
	if len(calls) == 0 && writes > 0 {
		return nil, base.NewProblem(base.Conflict, "confirm that they are to be made",
			"all %d calls may change something at the server", writes)
	}
	if len(calls) == 0 {
		return nil, base.NewProblem(base.NotFound, "", "there is no recorded call to make again")
	}
	return calls, nil
}

// safe reports whether a method is safe (RFC 9110 section 9.2.1).
func safe(method string) bool { return method == "GET" || method == "HEAD" || method == "OPTIONS" }

// recaller sends calls of one service.
type recaller struct {
	*Evidence
	contracts   *contract.Contracts
	servers     []outbound.Server
	credentials map[CallAs]exchange.Header
	people      []CallAs // whose credentials are kept
	elsewhere   *url.URL // the base of the server that the call is made at, instead of its own
}

func (s *Evidence) recaller(ctx context.Context, service string) (*recaller, error) {
	f, err := s.base.Contracts(ctx, service)
	if err != nil {
		return nil, err
	}
	r := &recaller{Evidence: s, contracts: f.Contracts, credentials: map[CallAs]exchange.Header{}}
	allowed, err := s.store.AllowedServers(ctx, service)
	if err != nil {
		return nil, err
	}
	for _, a := range allowed {
		one := outbound.Server{}
		if one.Base, err = url.Parse(a.Server); err != nil {
			return nil, err
		}
		if a.Address != "" {
			if one.Address, err = url.Parse(a.Address); err != nil {
				return nil, err
			}
		}
		r.servers = append(r.servers, one)
	}
	kept, err := s.store.AllCredentials(ctx, service)
	if err != nil {
		return nil, err
	}
	for _, c := range kept {
		plain, _, err := s.vault.Open(c.Sealed, vault.SecretAs)
		if err != nil {
			return nil, err
		}
		var fields exchange.Header
		if err := json.Unmarshal(plain, &fields); err != nil {
			return nil, err
		}
		as := CallAs{c.Audience, c.Person}
		r.credentials[as], r.people = fields, append(r.people, as)
	}
	return r, nil
}

// server returns the allowed server for a URL, or the zero value if there is none.
func (r *recaller) server(u *url.URL) outbound.Server {
	for _, s := range r.servers {
		if s.Serves(u) {
			return s
		}
	}
	return outbound.Server{Base: &url.URL{}}
}

// prepare builds a call from a recording. The recorded credentials are replaced by the stored ones of the audience.
func (r *recaller) prepare(c *store.Capture, again Again) (*exchange.Capture, error) {
	if !safe(c.Method) {
		if !again.Writes {
			return nil, base.NewProblem(base.Conflict, "confirm that it is to be made",
				"%s may change something at the server",
				c.Method)
		}
		if c.Holds != store.HoldsBodies {
			return nil, base.NewProblem(base.Conflict, "",
				"the body of capture %d is not kept, so the call cannot be made again",
				c.ID)
		}
	}
	e, err := r.vault.OpenExchange(c.Sealed)
	if err != nil {
		return nil, err
	}
	if e.Changed {
		return nil, base.NewProblem(base.Conflict, "record the call again",
			"the values in the address of capture %d are not kept, so the call cannot be made again", c.ID)
	}
	one, err := e.Capture(*c)
	if err != nil || one.Request.URL.Host == "" {
		return nil, base.NewProblem(base.Conflict, "", "capture %d has no address to call", c.ID)
	}
	if one.Request.URL.Scheme == "" { // an HTTP message does not tell it
		one.Request.URL.Scheme = r.schemeOf(one.Request.URL)
	}
	if r.elsewhere != nil {
		one.Request.URL = r.moved(one.Request.URL)
	}
	one.Request.URL.User, one.Request.URL.Fragment = nil, ""
	if s := r.server(one.Request.URL); s.Base.Host == "" {
		return nil, base.NewProblem(base.Forbidden, "an administrator allows it: inkret service allow URL",
			"calls to %s://%s are not allowed", one.Request.URL.Scheme, one.Request.URL.Host)
	}
	name := again.Audience
	if name == "" {
		name = c.Audience
	}
	as := CallAs{name, again.Person}
	audience := r.contracts.Audience(name)
	if audience == nil && (name != "" || len(r.contracts.Audiences) > 0) {
		return nil, base.NewProblem(base.Invalid, "it has "+strings.Join(r.names(), ", "), "there is no audience %q",
			name)
	}
	fields, kept := r.credentials[as]
	if !kept && as.Person != "" {
		return nil, base.NewProblem(base.Conflict, "set them: inkret service credentials set "+name+" --person "+
			as.Person,
			"no credentials are kept for %s", as)
	}
	if !kept && audience != nil && !recognised(audience) {
		return nil, base.NewProblem(base.Conflict, "set them: inkret service credentials set "+name,
			"no credentials are kept for the audience %q", name)
	}
	one.Request.Header = append(r.withoutCredentials(one.Request.Header), fields...)
	one.Audience = name
	return one, nil
}

func (r *recaller) names() (names []string) {
	for _, a := range r.contracts.Audiences {
		names = append(names, a.Name)
	}
	return names
}

func (r *recaller) schemeOf(u *url.URL) string {
	for _, s := range r.servers {
		if strings.EqualFold(s.Base.Host, u.Host) {
			return s.Base.Scheme
		}
	}
	return "https"
}

// credentialFields are header fields that always carry credentials.
var credentialFields = map[string]bool{"authorization": true, "proxy-authorization": true, "cookie": true,
	"set-cookie": true,
	"x-api-key":  true, "x-csrf-token": true}

// withoutCredentials removes the fields that identify the caller.
func (r *recaller) withoutCredentials(h exchange.Header) exchange.Header {
	var out exchange.Header
	for _, f := range h {
		name := strings.ToLower(f.Name)
		tells := credentialFields[name] || strings.Contains(f.Value, shown.Hidden)
		for _, a := range r.contracts.Audiences {
			for _, field := range a.Recognise.Fields() {
				tells = tells || strings.EqualFold(field, f.Name)
			}
		}
		for _, t := range r.contracts.Tellers {
			for _, field := range t.Fields() {
				tells = tells || strings.EqualFold(field, f.Name)
			}
		}
		if !tells {
			out = append(out, f)
		}
	}
	return out
}
