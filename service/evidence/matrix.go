package evidence

import (
	"context"
	"errors"
	"slices"
	"strings"
	"time"

	"inkret/core/matrix"
	"inkret/service/base"
	"inkret/store"
)

// One call is made as every audience, and by a second person of an audience where credentials of one are kept.

// AskedMatrix selects the call. One of Capture and Endpoint is set.
type AskedMatrix struct {
	Capture  int64  // its number, 0 for none
	Endpoint string // id: its newest safe call
	Writes   bool   // it may change something
	Preview  bool   // nothing is sent
}

// Matrix is what callers were answered, side by side.
type Matrix struct {
	Capture store.Capture  // whose call it is
	Server  string         // where it goes
	Batch   store.Batch    // of the answers; its number is 0 in a preview
	Callers []MatrixCaller // as whom it is made
	Rows    []matrix.Row   // States has one for each caller as whom a call was made
	More    int            // rows left out
}

// MatrixCaller is one as whom the call is made.
type MatrixCaller struct {
	CallAs
	Fields  []string      // names of the header fields that are theirs
	LeftOut string        // why no call is made as them
	Answer  store.Capture // what they were answered
	Missing string        // why there is no answer that could be judged
}

// paced is the pause between the calls of a matrix.
const paced = 250 * time.Millisecond

// matrixPrefix is what batches of matrices are called, before their calls.
const matrixPrefix = "matrix: "

// Matrix makes a call as every audience.
func (s *Evidence) Matrix(ctx context.Context, who base.Caller, ask AskedMatrix) (Matrix, error) {
	c, err := s.matrixCall(ctx, ask)
	if err != nil {
		return Matrix{}, err
	}
	needed := base.Reviewer
	if ask.Writes && !safe(c.Method) {
		needed = base.Lead
	}
	if !who.MayIn(c.Service, needed) {
		return Matrix{}, who.NotIn(c.Service, needed)
	}
	r, err := s.recaller(ctx, c.Service)
	if err != nil {
		return Matrix{}, err
	}
	m := Matrix{Capture: c}
	var all []sending
	for _, as := range r.everybody() {
		caller := MatrixCaller{CallAs: as}
		for _, f := range r.credentials[as] {
			caller.Fields = append(caller.Fields, f.Name)
		}
		one, err := r.prepare(&c, Again{Audience: as.Audience, Person: as.Person, Writes: ask.Writes})
		var p *base.Problem
		switch {
		case errors.As(err, &p) && p.Code == base.Conflict && r.lacks(as):
			caller.LeftOut = p.Detail
		case err != nil:
			return m, err
		default:
			all = append(all, sending{one, c.ID, as.Person})
			server := r.server(one.Request.URL)
			if m.Server = server.Base.String(); server.Address != nil {
				m.Server += " at " + server.Address.String()
			}
		}
		m.Callers = append(m.Callers, caller)
	}
	if ask.Preview {
		return m, nil
	}
	if len(all) == 0 {
		return m, base.NewProblem(base.Conflict, "set some: inkret service credentials set AUDIENCE",
			"no credentials are kept with which the call could be made")
	}
	b, err := s.send(ctx, who, store.Batch{Service: c.Service, Name: matrixPrefix + c.Method + " " + c.URL,
		Origin: store.FromRecapture}, r, &outgoing{all: all, pause: paced})
	if err != nil {
		return m, err
	}
	s.base.Log.Info("a call made as every audience", "batch", b.ID, "service", c.Service, "calls", len(all), "person",
		who.ID)
	return s.MatrixOf(ctx, b.ID)
}

// matrixCall returns the recorded call that is made.
func (s *Evidence) matrixCall(ctx context.Context, ask AskedMatrix) (store.Capture, error) {
	if ask.Capture != 0 {
		c, err := s.store.Capture(ctx, ask.Capture)
		return c, base.Found(err, "capture %d", ask.Capture)
	}
	if ask.Endpoint == "" {
		return store.Capture{}, base.NewProblem(base.Invalid, "", "say which call: a capture, or an endpoint")
	}
	rows, _, _, err := s.store.Captures(ctx, store.CaptureFilter{Endpoint: ask.Endpoint}, store.Page{Number: 1,
		Size: 10 * maxAgain})
	if err != nil {
		return store.Capture{}, err
	}
	best := -1
	for i, c := range rows {
		if c.Skipped == "another server" || !safe(c.Method) && !ask.Writes {
			continue
		}
		if best < 0 || c.Status < 300 && rows[best].Status >= 300 { // one that was answered says more
			best = i
		}
	}
	if best < 0 {
		return store.Capture{}, base.NewProblem(base.NotFound, "record one, or name a capture",
			"no safe call of the endpoint is recorded")
	}
	return s.store.Capture(ctx, rows[best].ID)
}

// everybody lists as whom a call is made, from least to most trusted.
func (r *recaller) everybody() (all []CallAs) {
	if len(r.contracts.Audiences) == 0 {
		return []CallAs{{}}
	}
	for _, a := range r.contracts.Audiences {
		n := len(all)
		for _, as := range r.people {
			if as.Audience == a.Name {
				all = append(all, as)
			}
		}
		if len(all) == n {
			all = append(all, CallAs{Audience: a.Name})
		}
	}
	return all
}

// lacks reports whether no credentials are kept for somebody who needs them.
func (r *recaller) lacks(as CallAs) bool {
	_, kept := r.credentials[as]
	a := r.contracts.Audience(as.Audience)
	return !kept && a != nil && !recognised(a)
}

// MatrixOf returns the matrix of a batch of answers, judged by the contracts in force.
func (s *Evidence) MatrixOf(ctx context.Context, batch int64) (Matrix, error) {
	b, err := s.Batch(ctx, batch)
	if err != nil {
		return Matrix{}, err
	}
	answers, _, _, err := s.store.Captures(ctx, store.CaptureFilter{Batch: batch},
		store.Page{Number: 1, Size: maxAgain})
	if err != nil {
		return Matrix{}, err
	}
	if !strings.HasPrefix(b.Name, matrixPrefix) || len(answers) == 0 {
		return Matrix{}, base.NewProblem(base.NotFound, "make one: inkret capture matrix", "batch %d is no matrix",
			batch)
	}
	m := Matrix{Batch: b, Capture: answers[0]}
	if c, err := s.store.Capture(ctx, answers[0].Repeats); err == nil {
		m.Capture = c
	} else if !errors.Is(err, store.ErrNotFound) {
		return m, err
	}
	slices.SortFunc(answers, func(a, b store.Capture) int { return a.Entry - b.Entry })
	var columns []matrix.Column
	for _, a := range answers {
		c, err := s.store.Capture(ctx, a.ID)
		if err != nil {
			return m, err
		}
		caller := MatrixCaller{CallAs: CallAs{c.Audience, c.Person}, Answer: c}
		held, wire, out, err := s.picture(ctx, c)
		if err != nil {
			return m, err
		}
		column := matrix.Column{Refused: c.Status >= 400 || wire == nil || out.Skipped != "", Outcome: &out}
		if !column.Refused {
			column.Body = wire.Root(out.Spots)
		} else if c.Status < 400 {
			caller.Missing = firstOf(held.ResponseMissing, out.Skipped, c.Skipped,
				"nothing that can be judged came back")
		}
		columns = append(columns, column)
		m.Callers = append(m.Callers, caller)
	}
	m.Rows, m.More = matrix.Of(columns)
	return m, nil
}

func firstOf(all ...string) string {
	for _, text := range all {
		if text != "" {
			return text
		}
	}
	return ""
}
