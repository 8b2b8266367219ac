package review

import (
	"context"
	"slices"
	"strings"
	"time"

	"inkret/core/compare"
	"inkret/core/contract"
	"inkret/core/exchange"
	"inkret/core/finding"
	"inkret/core/scan"
	"inkret/service/base"
	"inkret/store"
)

// mostJudgedAnew limits how many captures, newest first, a change of contracts is tried on.
const mostJudgedAnew = 10_000

// TrafficEffect is how a change of contracts affects the findings of recorded traffic.
type TrafficEffect struct {
	Captures int             // that were judged by both
	Most     bool            // there are more, which were not looked at
	Gone     []store.Finding // that the traffic would show no longer
	Came     []store.Finding // that it would show from then on

	shows    []store.Occurrence
	silenced map[string]bool     // of those that are gone: nothing else tells of them
	adopted  map[string][]string // ids that findings had while their endpoint had no contract
}

// effectOf computes what putting contracts in force changes in the store.
func (s *Review) effectOf(ctx context.Context, service string, w *weighed) (*store.Effect, error) {
	e := &store.Effect{}
	for _, c := range w.contracts.Endpoints {
		for _, name := range c.Names() {
			e.Endpoints = append(e.Endpoints, store.EndpointInContract{Text: name, Team: c.Team})
		}
	}
	e.Classed, e.Unclassed = classed(w.old, w.contracts)
	for _, k := range compare.KeptOf(w.contracts.Catalog, w.keptBefore()) {
		e.Kept = append(e.Kept, store.Kept{Entity: k.Entity, Field: k.Field, StoredAs: k.StoredAs, Type: string(k.Type),
			Class: k.Class.String()})
	}
	if w.old == nil {
		return e, nil
	}
	t, err := s.trafficEffect(ctx, service, w)
	if err != nil {
		return nil, err
	}
	back := finding.Renamed(w.contracts, w.old)
	for i := range t.Gone {
		f := &t.Gone[i]
		e.Granted = append(e.Granted, f.ID)
		if before := t.adopted[f.ID]; t.silenced[f.ID] && len(before) > 0 {
			e.Before = append(e.Before, before...)
		} else if t.silenced[f.ID] {
			e.Before = append(e.Before, back.Of(base.IdentityOf(f)).Fingerprint())
		}
	}
	e.Came, e.Shows = t.Came, t.shows
	renamed, err := s.renamed(ctx, service, w)
	if err != nil {
		return nil, err
	}
	if e.Excepted, err = s.excepted(ctx, service, w.contracts, renamed, slices.Concat(w.old.Exceptions,
		w.contracts.Exceptions)); err != nil {
		return nil, err
	}
	if r := renamed; len(r.Endpoints) > 0 {
		e.Renaming = &store.Renaming{Endpoints: r.Endpoints, Finding: func(f store.Finding) (id, path string) {
			is := r.Of(base.IdentityOf(&f))
			return is.Fingerprint(), is.Path
		}}
	}
	return e, nil
}

// excepted returns the findings whose exception changes, with the reason of the new exception, or an empty reason
// if none applies any more. The keys are the ids after endpoints are renamed. all holds the old and new exceptions.
func (s *Review) excepted(ctx context.Context, service string, c *contract.Contracts, renamed finding.Renaming,
	all []*contract.Exception) (map[string]string, error) {
	if len(all) == 0 {
		return nil, nil
	}
	var endpoints []string
	for _, x := range all {
		endpoints = append(endpoints, x.Endpoint)
	}
	may, err := s.store.MayBeExcepted(ctx, service, endpoints)
	if err != nil {
		return nil, err
	}
	today, reasons := s.base.Now().UTC().Format(time.DateOnly), map[string]string{}
	for i := range may {
		f := &finding.Finding{Identity: renamed.Of(base.IdentityOf(&may[i]))}
		finding.Except([]*finding.Finding{f}, c.Exceptions, today)
		reason := ""
		if f.Excepted != nil {
			reason = f.Excepted.Reason
		}
		if reason != may[i].Excepted {
			reasons[f.Identity.Fingerprint()] = reason
		}
	}
	return reasons, nil
}

// EndExceptions removes expired exceptions from their findings.
func (s *Review) EndExceptions(ctx context.Context) error {
	services, err := s.store.Services(ctx)
	if err != nil {
		return err
	}
	for _, one := range services {
		f, err := s.base.Contracts(ctx, one.Name)
		if err != nil || len(f.Contracts.Exceptions) == 0 {
			continue // no contracts yet, or none that can be read
		}
		reasons, err := s.excepted(ctx, one.Name, f.Contracts, finding.Renaming{}, f.Contracts.Exceptions)
		if err != nil {
			return err
		}
		if len(reasons) > 0 {
			if err := s.store.SetExcepted(ctx, reasons, "the calendar", s.base.Now()); err != nil {
				return err
			}
		}
	}
	return nil
}

// renamed returns the endpoints that proposed contracts rename, and those that had no contract so far and have
// one then.
func (s *Review) renamed(ctx context.Context, service string, w *weighed) (finding.Renaming, error) {
	r := finding.Renamed(w.old, w.contracts)
	known, err := s.store.AllEndpoints(ctx, service)
	if err != nil || w.old == nil {
		return r, err
	}
	var unknown []string
	for _, e := range known {
		if !e.Known {
			unknown = append(unknown, e.Text)
		}
	}
	r.Adopt(w.old, w.contracts, unknown)
	return r, nil
}

// adopt renames an outcome, and records which ids its findings had where their endpoint gets a contract.
func (t *TrafficEffect) adopt(service string, old *scan.Outcome, renamed finding.Renaming) {
	var before []string
	if !old.Known {
		for i := range old.Spots {
			before = append(before, finding.IdentityOf(service, old, &old.Spots[i]).Fingerprint())
		}
	}
	renamed.Outcome(old)
	for i, id := range before {
		now := finding.IdentityOf(service, old, &old.Spots[i]).Fingerprint()
		if now != id && !slices.Contains(t.adopted[now], id) {
			t.adopted[now] = append(t.adopted[now], id)
		}
	}
}

// silence records which findings of a capture are no longer reported at least as severely at their place, around it
// or inside it. A finding that is reported under another kind or endpoint name is not silenced.
func (t *TrafficEffect) silence(service string, old, new *scan.Outcome) {
	for i := range old.Spots {
		s := &old.Spots[i]
		if s.Severity < finding.ByTwo || slices.ContainsFunc(new.Spots, func(n scan.Spot) bool {
			return n.Request == s.Request && n.Severity >= s.Severity &&
				(strings.HasPrefix(n.Pointer+"/", s.Pointer+"/") || strings.HasPrefix(s.Pointer+"/", n.Pointer+"/"))
		}) {
			continue
		}
		t.silenced[finding.IdentityOf(service, old, s).Fingerprint()] = true
	}
}

// keptBefore returns the classes of fields, both current and deleted, before the change.
func (w *weighed) keptBefore() []compare.Kept {
	if w.old == nil {
		return w.kept
	}
	return compare.KeptOf(w.old.Catalog, w.kept)
}

// trafficEffect evaluates recorded captures under the contracts in force and under the proposed ones, where they
// differ.
func (s *Review) trafficEffect(ctx context.Context, service string, w *weighed) (*TrafficEffect, error) {
	t := &TrafficEffect{Gone: []store.Finding{}, Came: []store.Finding{}, silenced: map[string]bool{},
		adopted: map[string][]string{}}
	if w.old == nil {
		return t, nil
	}
	endpoints, all := w.touched()
	if !all && len(endpoints) == 0 {
		return t, nil
	}
	var err error
	var ids []string
	if !all {
		if ids, err = s.mayDiffer(ctx, service, endpoints); err != nil {
			return nil, err
		}
	}
	before, after := scan.NewJudge(w.old), scan.NewJudge(w.contracts)
	renamed, err := s.renamed(ctx, service, w)
	if err != nil {
		return nil, err
	}
	was, is := finding.NewCollector(service), finding.NewCollector(service)
	teams := map[string]string{}
	err = s.store.Recorded(ctx, service, ids, mostJudgedAnew+1, func(c store.Capture) error {
		if t.Captures == mostJudgedAnew {
			t.Most = true
			return nil
		}
		t.Captures++
		one, err := s.opened(c)
		if err != nil {
			return err
		}
		before.Know(c.Known.Known)
		after.Know(c.Known.At(c.Endpoint))
		old := before.Capture(one)
		t.adopt(service, &old, renamed)
		was.Add("", c.Entry, &old)
		old.Spots = slices.Clone(old.Spots) // valid until the next call only
		shown := map[string]bool{}
		for _, o := range base.Occurrences(service, &old) {
			shown[o.Finding] = true
		}
		new := after.Capture(one)
		is.Add("", c.Entry, &new)
		t.silence(service, &old, &new)
		teams[new.Endpoint] = new.Team
		for _, o := range base.Occurrences(service, &new) {
			if !shown[o.Finding] {
				o.CaptureID = c.ID
				t.shows = append(t.shows, o)
			}
		}
		return nil
	})
	if err != nil {
		return nil, err
	}
	today := s.base.Now().UTC().Format(time.DateOnly)
	lost, came := was.Findings(), is.Findings()
	finding.Except(came, w.contracts.Exceptions, today)
	t.Gone = base.FindingRows(service, missing(lost, came), func(string) string { return "" })
	t.Came = base.FindingRows(service, missing(came, lost), func(endpoint string) string { return teams[endpoint] })
	new := map[string]bool{}
	for _, f := range t.Came {
		new[f.ID] = true
	}
	t.shows = slices.DeleteFunc(t.shows, func(o store.Occurrence) bool { return !new[o.Finding] })
	return t, nil
}

// mayDiffer returns the ids of endpoints, and of those without a contract: what was swept so far may have one now.
func (s *Review) mayDiffer(ctx context.Context, service string, endpoints []string) (ids []string, err error) {
	known, err := s.store.AllEndpoints(ctx, service)
	if err != nil {
		return nil, err
	}
	for _, e := range known {
		if !e.Known {
			endpoints = append(endpoints, e.Text)
		}
	}
	for _, text := range endpoints {
		ids = append(ids, store.EndpointID(service, text))
	}
	return ids, nil
}

// missing returns the findings in a that are not in b.
func missing(a, b []*finding.Finding) []*finding.Finding {
	in := map[string]bool{}
	for _, f := range b {
		in[f.Fingerprint] = true
	}
	return slices.DeleteFunc(slices.Clone(a), func(f *finding.Finding) bool { return in[f.Fingerprint] })
}

// touched returns the endpoints whose captures may be evaluated differently, under all their names: those that
// changed, and those that requests move to or from. all is true if it can be any endpoint.
func (w *weighed) touched() (endpoints []string, all bool) {
	templates := contract.Differing(w.old, w.contracts)
	if templates == nil {
		return nil, true
	}
	var differing []*contract.Endpoint
	states := []*contract.Contracts{w.old, w.contracts}
	for _, c := range states {
		for _, e := range c.Endpoints {
			if templates[e.Template()] {
				differing = append(differing, e)
			}
		}
	}
	for _, c := range states {
		for _, e := range c.Endpoints {
			if templates[e.Template()] || slices.ContainsFunc(differing, e.Meets) {
				endpoints = append(endpoints, e.Names()...)
			}
		}
	}
	return endpoints, false
}

// opened rebuilds a capture from what is kept of it.
func (s *Review) opened(c store.Capture) (*exchange.Capture, error) {
	held, err := s.vault.OpenExchange(c.Sealed)
	if err != nil {
		return nil, err
	}
	return held.Capture(c)
}
