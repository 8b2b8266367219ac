package evidence

import (
	"context"
	"sort"
	"time"

	"inkret/core/contract"
	"inkret/core/exchange"
	"inkret/core/finding"
	"inkret/core/scan"
	"inkret/core/shown"
	"inkret/service/base"
	"inkret/service/vault"
	"inkret/store"
)

// gathering evaluates captures of one service and collects what they show.
type gathering struct {
	service   string
	contracts *contract.Contracts
	masker    shown.Masker
	judge     *scan.Judge
	collector *finding.Collector
	endpoints map[string]*store.SeenEndpoint
	awaiting  []finding.Awaiting
	proofs    map[string]*proof // by finding
	taken     int               // captures so far
	known     scan.Known        // what only the whole batch tells

	incomplete int // of those that were judged
	now        time.Time
	arrives    bool // captures come as they are made: one without a time is of now
}

// proof is the evidence so far for one finding that awaits proof.
type proof struct {
	nth   int // of the first capture that covers the place and shows nothing there
	there bool
	leaks bool // one shows it still
}

func (s *Evidence) newGathering(ctx context.Context, service string, c *contract.Contracts) (*gathering, error) {
	g := &gathering{service: service, contracts: c, masker: shown.For(c), judge: scan.NewJudge(c),
		collector: finding.NewCollector(service), endpoints: map[string]*store.SeenEndpoint{},
		proofs: map[string]*proof{}, now: s.base.Now()}
	g.judge.Print, g.judge.Counts = s.print, true
	waiting, err := s.store.Awaiting(ctx, service)
	for _, w := range waiting {
		w.Service = service
		g.awaiting = append(g.awaiting, finding.Awaiting{ID: w.ID, Since: w.LastSeen, Identity: base.IdentityOf(&w)})
	}
	if len(g.awaiting) > 0 {
		g.judge.Occurs = map[string]struct{}{}
	}
	return g, err
}

// prove checks a capture against the findings that await proof.
func (g *gathering) prove(c *exchange.Capture, out *scan.Outcome) {
	when := c.Started
	if when.IsZero() && g.arrives {
		when = g.now
	}
	for i := range g.awaiting {
		w := &g.awaiting[i]
		covers, leaks := w.Shows(out, g.judge.Occurs)
		if !covers {
			continue
		}
		p := g.proofs[w.ID]
		if p == nil {
			p = &proof{}
			g.proofs[w.ID] = p
		}
		// a capture without a time may be older than the fix
		if p.leaks = p.leaks || leaks; !leaks && !p.there && out.Incomplete == "" && !when.IsZero() &&
			when.After(w.Since) {
			p.nth, p.there = g.taken, true
		}
	}
}

// add evaluates a capture. It returns the record to store, without the sealed part, and the findings that the
// capture shows.
func (g *gathering) add(c *exchange.Capture) (store.Capture, []store.Occurrence) {
	clear(g.judge.Occurs)
	out := g.judge.Capture(c)
	if len(g.awaiting) > 0 {
		g.prove(c, &out)
	}
	g.taken++
	if c.Incomplete != "" && out.Skipped == "" {
		g.incomplete++
	}
	for i := range out.Spots {
		if c.Outlined {
			out.Spots[i].Sample = "" // it would be one of a stand-in
		}
	}
	g.collector.Add(c.File, c.Entry, &out)
	row := store.Capture{Entry: c.Entry, Method: c.Request.Method, Audience: out.Audience, AudienceBy: out.AudienceBy,
		Status:  c.Response.Status,
		Started: c.Started, Bytes: out.Bytes, Excess: out.Excess, Skipped: out.Skipped, Incomplete: c.Incomplete,
		Service: g.service, Endpoint: out.Endpoint}
	if c.Request.URL != nil {
		row.URL = g.masker.Address(c.Request.URL, out.Endpoint)
	}
	if out.Known || out.Skipped == "" || len(out.Spots) > 0 { // of what is only passed over, no endpoint is noted
		row.EndpointID = store.EndpointID(g.service, out.Endpoint)
		e := g.endpoints[out.Endpoint]
		if e == nil {
			e = &store.SeenEndpoint{Text: out.Endpoint, Team: out.Team}
			g.endpoints[out.Endpoint] = e
		}
		if out.Skipped == "" {
			e.Captures++
			e.Bytes += int64(out.Bytes)
			e.Excess += int64(out.Excess)
		}
	}
	return row, base.Occurrences(g.service, &out)
}

// evidence returns what the captures showed, and the number of findings by severity.
func (g *gathering) evidence(now time.Time) (store.Evidence, map[string]int) {
	findings := g.collector.Findings()
	finding.Except(findings, g.contracts.Exceptions, now.UTC().Format(time.DateOnly))
	bySeverity := map[string]int{}
	for _, one := range findings {
		bySeverity[one.Severity.String()]++
	}
	e := store.Evidence{Findings: base.FindingRows(g.service, findings, g.team)}
	for _, one := range g.endpoints {
		e.Seen = append(e.Seen, *one)
	}
	e.Shown, e.Exercised = g.exposed()
	for id, p := range g.proofs {
		if p.there && !p.leaks {
			e.Proofs = append(e.Proofs, store.Proof{Finding: id, Nth: p.nth, At: now})
		}
	}
	return e, bySeverity
}

func (g *gathering) team(endpoint string) string {
	if e := g.endpoints[endpoint]; e != nil {
		return e.Team
	}
	return ""
}

// count writes the totals into a batch.
func (g *gathering) count(b *store.Batch) {
	sum := g.collector.Summary()
	b.Captures, b.Judged, b.Skipped, b.Bytes, b.Excess = sum.Captures, sum.Judged, sum.Skipped, int64(sum.Bytes),
		int64(sum.ExcessBytes)
	b.Incomplete, b.Known = g.incomplete, store.Known{Known: g.known}
	b.SkipReasons = skipReasons(g.collector.Skipped())
}

// exposed returns which granted fields the captures showed, and which responses they exercised.
func (g *gathering) exposed() (shown []store.Shown, exercised []store.Exercised) {
	met := map[store.Shown]bool{}
	for _, e := range g.judge.Exercises() {
		exercised = append(exercised, store.Exercised{Endpoint: e.Endpoint, Audience: e.Audience, Status: e.Status,
			Captures: e.Captures})
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

func skipReasons(all []finding.Skipped) []store.SkipReason {
	counts := map[string]int{}
	for _, s := range all {
		counts[s.Reason]++
	}
	reasons := []store.SkipReason{}
	for reason, n := range counts {
		reasons = append(reasons, store.SkipReason{Reason: reason, Captures: n})
	}
	return mostFirst(reasons)
}

// mostFirst sorts skip reasons by frequency and keeps the most frequent.
func mostFirst(reasons []store.SkipReason) []store.SkipReason {
	sort.Slice(reasons, func(i, k int) bool {
		return reasons[i].Captures > reasons[k].Captures || reasons[i].Captures == reasons[k].Captures &&
			reasons[i].Reason < reasons[k].Reason
	})
	const kept = 20
	return reasons[:min(len(reasons), kept)]
}

// held returns the part of a capture that is sealed, and sets row.Holds to how much is kept. Bodies that were not
// read, or that are from other servers, are never kept.
func held(c *exchange.Capture, row *store.Capture, bodies bool, contracts *contract.Contracts) vault.Exchange {
	e := vault.Exchange{RequestHeader: c.Request.Header, ResponseHeader: c.Response.Header,
		ResponseMissing: c.Response.Missing}
	if c.Request.URL != nil {
		e.URL = c.Request.URL.String()
	}
	if row.Holds = store.HoldsBodies; row.Bytes > 0 {
		e.RequestBody, e.ResponseBody = c.Request.Body, c.Response.Body
	}
	if !bodies {
		row.Holds = e.Outline(contracts)
	}
	return e
}
