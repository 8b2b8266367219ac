package review

import (
	"context"
	"errors"
	"strings"

	"inkret/core/contract"
	"inkret/core/revise"
	"inkret/service/base"
	"inkret/store"
)

// States of an exposure request.
const (
	RequestOpen      = "open"
	RequestGranted   = "granted"   // as asked; the contracts have a revision that grants it
	RequestCountered = "countered" // less was granted than was asked
	RequestDeclined  = "declined"
	RequestWithdrawn = "withdrawn" // by who asked
)

const longestReason = 2000

// Ask requests that a field be granted to an audience at an endpoint. If the same request is already open, that one
// is returned.
func (s *Review) Ask(ctx context.Context, who base.Caller, q store.Request) (RequestView, error) {
	q, err := s.ask(ctx, who, q)
	if err != nil {
		return RequestView{}, err
	}
	return s.Request(ctx, q.ID)
}

func (s *Review) ask(ctx context.Context, who base.Caller, q store.Request) (store.Request, error) {
	for _, text := range []*string{&q.Endpoint, &q.Audience, &q.Entity, &q.Field, &q.Member, &q.NeededBy, &q.Reason} {
		*text = strings.TrimSpace(*text)
	}
	switch {
	case q.Reason == "":
		return q, base.NewProblem(base.Invalid, "", "say why the field is needed")
	case q.NeededBy == "":
		return q, base.NewProblem(base.Invalid, "", "say who needs the field: a page, an application, a program")
	case len(q.Reason) > longestReason || len(q.NeededBy) > longestReason:
		return q, base.NewProblem(base.Invalid, "", "the reason is longer than %d bytes", longestReason)
	}
	f, err := s.base.Contracts(ctx, q.Service)
	if err != nil {
		return q, err
	}
	e, err := endpointOf(f.Contracts, q.Endpoint)
	if err != nil {
		return q, err
	}
	if f.Contracts.Audience(q.Audience) == nil && len(f.Contracts.Audiences) > 0 {
		return q, base.NewProblem(base.Invalid, "", "the contract has no audience %q", q.Audience)
	}
	entity := f.Contracts.Catalog.Entity(q.Entity)
	if entity == nil {
		return q, base.NewProblem(base.Invalid, "", "there is no entity %q", q.Entity)
	}
	if field, _ := entity.Lookup(q.Field); field == nil {
		return q, base.NewProblem(base.Invalid, "", "%s has no field %q", q.Entity, q.Field)
	}
	q.Endpoint, q.PersonID, q.Author, q.At = e.Text, who.ID, who.Name, s.base.Now()
	q, err = s.store.AddRequest(ctx, q, s.base.Did(who, "exposure requested", q.Service, subjectOf(&q)))
	if errors.Is(err, store.ErrExists) {
		return q, nil
	}
	if err != nil {
		return q, err
	}
	s.base.Log.Info("exposure requested", "request", q.ID, "person", who.ID)
	return q, nil
}

// subjectOf describes a request for the trail.
func subjectOf(q *store.Request) string {
	return q.Entity + "." + q.Field + " at " + q.Endpoint + " for " + q.Audience
}

func endpointOf(c *contract.Contracts, text string) (*contract.Endpoint, error) {
	for _, e := range c.Endpoints {
		if e.Text == text {
			return e, nil
		}
	}
	return nil, base.NewProblem(base.Invalid, "", "no contract has the endpoint %q", text)
}

// Requests returns a page of requests, newest first, and their total number.
func (s *Review) Requests(ctx context.Context, by store.RequestFilter, page store.Page) ([]RequestView, int, error) {
	all, total, err := s.store.Requests(ctx, by, page)
	views := make([]RequestView, len(all))
	for i, q := range all {
		views[i] = RequestView{Request: q, Class: s.classOf(ctx, &q)}
	}
	return views, total, err
}

// classOf returns the current class of the requested field.
func (s *Review) classOf(ctx context.Context, q *store.Request) string {
	f, err := s.base.Contracts(ctx, q.Service)
	if err != nil {
		return ""
	}
	if field, _ := f.Contracts.Catalog.Entity(q.Entity).Lookup(q.Field); field != nil {
		return field.Class.String()
	}
	return ""
}

// RequestView is a request, with the grant that it would add.
type RequestView struct {
	store.Request
	Class  string // the field's, as the catalogue has it now
	Grant  string // the line that would be written
	Refuse string // why it cannot be written, where it cannot
}

// Request returns one request.
func (s *Review) Request(ctx context.Context, id int64) (RequestView, error) {
	q, err := s.store.RequestByID(ctx, id)
	if err != nil {
		return RequestView{}, base.Found(err, "request %d", id)
	}
	v := RequestView{Request: q, Class: s.classOf(ctx, &q), Grant: grantOf(&q, nil).Line()}
	if q.State == RequestOpen {
		if _, err := s.granting(ctx, &q, nil); err != nil {
			v.Refuse = err.Error()
		}
	}
	return v, nil
}

// Less is a smaller grant than the requested one.
type Less struct {
	Max      int    // of a text
	Optional bool   // it need not be there
	Member   string // the name; empty for the field's own
}

// Decision is a reviewer's decision on a request or a revision.
type Decision struct {
	Grant   bool   // it is granted
	Less    *Less  // countered: granted, but so
	Comment string // needed to decline
}

// DecideRequest grants a request, which creates a revision of the contracts, or declines it with a reason. The
// requester is notified.
func (s *Review) DecideRequest(ctx context.Context, who base.Caller, id int64, d Decision) (RequestView, error) {
	q, err := s.store.RequestByID(ctx, id)
	if err != nil {
		return RequestView{}, base.Found(err, "request %d", id)
	}
	if q.State != RequestOpen {
		return RequestView{}, base.NewProblem(base.Conflict, "", "the request was %s by %s already", q.State,
			q.DecidedBy)
	}
	d.Comment = strings.TrimSpace(d.Comment)
	q.DecidedBy, q.Decided, q.Decision = who.Name, s.base.Now(), d.Comment
	switch {
	case !d.Grant && d.Comment == "":
		return RequestView{}, base.NewProblem(base.Invalid, "", "declining needs a reason: say it as the comment")
	case d.Less != nil && d.Comment == "":
		return RequestView{}, base.NewProblem(base.Invalid, "", "granting less needs a reason: say it as the comment")
	case !d.Grant:
		q.State = RequestDeclined
	default:
		p, err := s.granting(ctx, &q, d.Less)
		if err != nil {
			return RequestView{}, err
		}
		if q.State = RequestGranted; d.Less != nil {
			q.State = RequestCountered
		}
		made, _, err := s.Apply(ctx, who, q.Service, p)
		if err != nil {
			return RequestView{}, err
		}
		q.Revision = made.Number
	}
	if err := s.store.DecideRequest(ctx, q, who.ID, s.base.Did(who, "request "+q.State, q.Service,
		subjectOf(&q))); errors.Is(err, store.ErrConflict) {
		return RequestView{}, base.NewProblem(base.Conflict, "", "the request was decided meanwhile")
	} else if err != nil {
		return RequestView{}, err
	}
	s.base.Log.Info("request decided", "request", id, "state", q.State, "person", who.ID)
	return s.Request(ctx, id)
}

// WithdrawRequest withdraws one of the caller's requests.
func (s *Review) WithdrawRequest(ctx context.Context, who base.Caller, id int64) (RequestView, error) {
	q, err := s.store.RequestByID(ctx, id)
	if err != nil || q.PersonID != who.ID {
		return RequestView{}, base.Found(store.ErrNotFound, "request %d of yours", id)
	}
	q.State, q.DecidedBy, q.Decided = RequestWithdrawn, who.Name, s.base.Now()
	if err := s.store.DecideRequest(ctx, q, who.ID, s.base.Did(who, "request withdrawn", q.Service,
		subjectOf(&q))); errors.Is(err, store.ErrConflict) {
		now, err := s.store.RequestByID(ctx, id)
		if err != nil {
			return RequestView{}, err
		}
		return RequestView{}, base.NewProblem(base.Conflict, "", "the request was %s already", now.State)
	} else if err != nil {
		return RequestView{}, err
	}
	return s.Request(ctx, id)
}

// grantOf returns the grant that was requested, or the reviewer's smaller one.
func grantOf(q *store.Request, less *Less) *revise.Granting {
	g := &revise.Granting{Endpoint: q.Endpoint, Audience: q.Audience, Entity: q.Entity, Field: q.Field,
		Member: q.Member, Reason: q.Reason, NeededBy: q.NeededBy}
	if less != nil {
		g.Max, g.Optional = less.Max, less.Optional
		if less.Member != "" {
			g.Member = less.Member
		}
	}
	return g
}

// granting returns the contract files in force with the requested grant added, and their revision.
func (s *Review) granting(ctx context.Context, q *store.Request, less *Less) (Proposed, error) {
	f, err := s.base.Contracts(ctx, q.Service)
	if err != nil {
		return Proposed{}, err
	}
	g := grantOf(q, less)
	edits, err := revise.Grant(f.Contracts, g)
	if err != nil {
		return Proposed{}, base.NewProblem(base.Conflict,
			"write the grant in the editor, and then decline the request saying so, or withdraw it", "%v", err)
	}
	files, err := revise.Apply(base.ContractFiles(f.Revision.Files), edits)
	if err != nil {
		return Proposed{}, base.NewProblem(base.Conflict, "write the grant in the editor", "%v", err)
	}
	p := Proposed{Base: f.Revision.Number, Reason: q.Author + " asked for " + q.Entity + "." + q.Field + " at " +
		q.Endpoint + ": " + q.Reason}
	for _, one := range files {
		p.Files = append(p.Files, store.ContractFile{Name: one.Name, Text: string(one.Data)})
	}
	return p, nil
}
