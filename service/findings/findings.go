package findings

import (
	"context"
	"fmt"
	"strings"
	"time"

	"inkret/core/finding"
	"inkret/core/kind"
	"inkret/service/base"
	"inkret/store"
)

// FindingView is a finding with its evidence and history.
type FindingView struct {
	store.Finding
	GrantText string             // the line of the contract that decided
	Evidence  []store.Occurrence // captures that show it, newest first
	History   []store.Event      // oldest first
	Moves     []finding.State    // states that it may be moved to
	Elsewhere []store.Finding    // the same entity field
	SameValue []store.Finding    // under whatever name
	Prove     string             // while it awaits proof: the command that captures its endpoint again
	Proofs    []store.Proof      // what proved it if it is closed, else what recordings in progress tell of it
	Mend      string             // how such a leak is usually mended
	Follows   bool               // who asks is told of what becomes of it
	Teaches   []Teaching         // changes of the contracts that would keep it from being told
	Causes    []finding.Cause    // what it likely comes of
}

const (
	shownEvidence  = 20
	shownElsewhere = 20
)

// Finding returns one finding as the caller sees it.
func (s *Findings) Finding(ctx context.Context, who base.Caller, id string) (FindingView, error) {
	f, err := s.store.Finding(ctx, id)
	if err != nil {
		return FindingView{}, base.Found(err, "finding %s", id)
	}
	id = f.ID // it may have been asked for by the one that it had before
	v := FindingView{Finding: f, Moves: finding.State(f.State).Moves()}
	if f.Doubt != "" {
		v.Moves = []finding.State{finding.AwaitingProof, finding.Closed}
	}
	if kind, ok := kind.Parse(f.Kind); ok {
		v.Mend = kind.Mend()
	}
	if v.Follows, err = s.store.Follows(ctx, who.ID, id); err != nil {
		return v, err
	}
	v.Teaches = teachings(&f)
	if v.Causes, err = s.causes(ctx, &f); err != nil {
		return v, err
	}
	if f.GrantFile != "" {
		v.GrantText = s.review.Line(ctx, f.Service, f.GrantFile, f.GrantLine)
	}
	if v.Evidence, err = s.store.Occurrences(ctx, id, shownEvidence); err != nil {
		return v, err
	}
	if v.History, err = s.store.Events(ctx, id); err != nil {
		return v, err
	}
	if f.State == string(finding.AwaitingProof) {
		v.Prove = "inkret record --upstream URL"
		if len(v.Evidence) > 0 {
			v.Prove = fmt.Sprintf("inkret capture repeat --capture %d", v.Evidence[0].CaptureID)
		}
	}
	if v.Proofs, err = s.store.ProofsOf(ctx, f); err != nil {
		return v, err
	}
	if v.SameValue, err = s.store.SameValue(ctx, f, shownElsewhere); err != nil {
		return v, err
	}
	v.Elsewhere, err = s.store.Elsewhere(ctx, f, shownElsewhere)
	return v, err
}

// Move moves a finding to another state.
func (s *Findings) Move(ctx context.Context, who base.Caller, id string, m finding.Move) (FindingView, error) {
	c, err := s.ChangeFindings(ctx, who, []string{id}, nil, Wish{To: m.To, Until: m.Until, Comment: m.Comment})
	if err != nil {
		return FindingView{}, err
	}
	v, err := s.Finding(ctx, who, id)
	if err == nil && c.Findings == 0 {
		return v, base.NewProblem(base.Conflict, "", "%s", c.Refused[0].Why)
	}
	return v, err
}

// Comment adds a comment to a finding.
func (s *Findings) Comment(ctx context.Context, who base.Caller, id, text string) (FindingView, error) {
	if text = strings.TrimSpace(text); text == "" {
		return FindingView{}, base.NewProblem(base.Invalid, "", "the comment is empty")
	}
	mentioned, err := s.mentioned(ctx, text)
	if err != nil {
		return FindingView{}, err
	}
	if err := s.store.Comment(ctx, id, store.Event{At: s.base.Now(), Author: who.Name, PersonID: who.ID,
		Kind:    "comment",
		Comment: text}, mentioned, s.base.Did(who, "comment", "finding "+id, "")); err != nil {
		return FindingView{}, base.Found(err, "finding %s", id)
	}
	return s.Finding(ctx, who, id)
}

// Home holds what needs attention.
type Home struct {
	Severities    map[int]int      // of open findings
	States        map[string]int   // open findings by state
	Urgent        []store.Finding  // new and returned ones, gravest first
	WaiversEnding int              // within a week
	Unknown       []store.Endpoint // seen without a contract
	UnknownTotal  int              // endpoints without a contract
	Batches       []store.Batch    // the newest
	Services      []store.Service  // all of them

	Mine      []store.Finding // assigned to who asks and open, first what is due first
	MineTotal int             // open findings that are assigned to who asks
	Overdue   int             // of mine
	Unread    int             // notices

	Doubted      int // closed, and their proofs no longer count
	WaiversAsked int // that wait for approval
	Revisions    int // that wait for approval
	Left         int // open findings of people who are kept out
	Requests     int // exposure requests that wait for a decision
}

const shownAtHome = 8

// Home returns what needs attention.
func (s *Findings) Home(ctx context.Context, who base.Caller) (Home, error) {
	var h Home
	var err error
	few := store.Page{Number: 1, Size: shownAtHome}
	var open []string
	for _, st := range finding.States() {
		if st.Open() {
			open = append(open, string(st))
		}
	}
	if _, h.Severities, err = s.store.Findings(ctx, store.FindingFilter{States: open},
		store.Page{Number: 1, Size: 1}); err != nil {
		return h, err
	}
	if h.Urgent, _, err = s.store.Findings(ctx, store.FindingFilter{States: []string{string(finding.New),
		string(finding.Returned)}}, few); err != nil {
		return h, err
	}
	if h.States, err = s.store.StateCounts(ctx); err != nil {
		return h, err
	}
	const week = 7 * 24 * time.Hour
	if h.WaiversEnding, err = s.store.WaiversEnding(ctx,
		s.base.Now().Add(week).UTC().Format(time.DateOnly)); err != nil {
		return h, err
	}
	_, doubted, err := s.store.Findings(ctx, store.FindingFilter{Doubted: true}, store.Page{Number: 1, Size: 1})
	if err != nil {
		return h, err
	}
	for _, n := range doubted {
		h.Doubted += n
	}
	no := false
	if h.Unknown, h.UnknownTotal, err = s.store.Endpoints(ctx, store.EndpointFilter{Known: &no, Sort: "-captures"},
		few); err != nil {
		return h, err
	}
	if h.Batches, _, err = s.store.Batches(ctx, store.Page{Number: 1, Size: 5}); err != nil {
		return h, err
	}
	if h.Services, err = s.store.Services(ctx); err != nil {
		return h, err
	}
	return h, s.mine(ctx, who, open, &h)
}
