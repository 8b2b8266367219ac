package evidence

import (
	"context"
	"sort"
	"strings"
	"time"

	"inkret/core/contract"
	"inkret/core/exchange"
	"inkret/core/finding"
	"inkret/core/graph"
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
	trial     *finding.Trial       // of the findings that await proof, nil if none does
	shown     map[string]time.Time // when findings were shown last, by fingerprint
	taken     int                  // captures so far
	known     scan.Known           // what only the whole batch tells

	print      func([]byte) uint64
	incomplete int // of those that were judged
	now        time.Time
	arrives    bool // captures come as they are made: one without a time is of now
}

func (s *Evidence) newGathering(ctx context.Context, service string, c *contract.Contracts) (*gathering, error) {
	g := &gathering{service: service, contracts: c, masker: shown.For(c), judge: scan.NewJudge(c),
		collector: finding.NewCollector(service), endpoints: map[string]*store.SeenEndpoint{},
		shown: map[string]time.Time{}, now: s.base.Now(), print: s.print}
	g.judge.Print, g.judge.Hash, g.judge.Counts = s.print, s.print, true
	var err error
	if g.trial, err = s.trial(ctx, service); g.trial != nil {
		g.judge.Seek = g.trial.Seeks
	}
	return g, err
}

// trial returns a trial of the findings of a service that await proof, nil if none does.
func (s *Evidence) trial(ctx context.Context, service string) (*finding.Trial, error) {
	waiting, err := s.store.Awaiting(ctx, service)
	if err != nil || len(waiting) == 0 {
		return nil, err
	}
	return trialOf(service, waiting), nil
}

func trialOf(service string, waiting []store.Finding) *finding.Trial {
	var all []finding.Awaiting
	for _, w := range waiting {
		w.Service = service
		all = append(all, finding.Awaiting{ID: w.ID, Identity: base.IdentityOf(&w)})
	}
	return finding.NewTrial(all)
}

// callOf returns the keyed hash by which the same call is told: method, whole address, audience, and what it asks for
// in GraphQL.
func callOf(print func([]byte) uint64, c *exchange.Capture, audience string) int64 {
	u := c.Request.URL
	if u == nil {
		return 0
	}
	call := []string{"call", c.Request.Method, strings.ToLower(u.Host), u.EscapedPath(), u.RawQuery, audience}
	if asks := graph.Same(c.Request.Method, u, c.Request.Header.Get("Content-Type"), c.Request.Body); asks != nil {
		call = append(call, string(asks)) // all queries go to one address
	}
	return int64(print([]byte(strings.Join(call, "\n"))))
}

// add evaluates a capture. It returns the record to store, without the sealed part, and the findings that the
// capture shows.
func (g *gathering) add(c *exchange.Capture) (store.Capture, []store.Occurrence) {
	out := g.judge.Capture(c)
	c.Who, c.Holder, c.Theirs = out.Who, out.Holder, out.Theirs
	recorded := finding.Counts(c.Started, g.now, g.arrives)
	if g.trial != nil {
		g.trial.Add(g.taken, &out, recorded)
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
		Started: c.Started, Recorded: recorded, Call: callOf(g.print, c, out.Audience), Refused: out.Refused,
		Bytes:  out.Bytes,
		Excess: out.Excess, Skipped: out.Skipped, Incomplete: c.Incomplete,
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
	if row.Started.IsZero() {
		row.Started = recorded
	}
	if row.Recorded.IsZero() { // it may be as new as this
		row.Recorded = g.now
	}
	shows := base.Occurrences(g.service, &out)
	for _, o := range shows {
		if row.Recorded.After(g.shown[o.Finding]) {
			g.shown[o.Finding] = row.Recorded
		}
	}
	return row, shows
}

// evidence returns what the captures showed, and the number of findings by severity.
func (g *gathering) evidence(now time.Time) (store.Evidence, map[string]int) {
	findings := g.collector.Findings()
	finding.Except(findings, g.contracts.Exceptions, now.UTC().Format(time.DateOnly))
	bySeverity := map[string]int{}
	for _, one := range findings {
		bySeverity[one.Severity.String()]++
	}
	e := store.Evidence{Findings: base.FindingRows(g.service, findings, g.team), At: now}
	for i := range e.Findings {
		e.Findings[i].Shown = g.shown[e.Findings[i].ID]
	}
	for _, one := range g.endpoints {
		e.Seen = append(e.Seen, *one)
	}
	e.Shown, e.Exercised = g.exposed()
	if g.trial != nil {
		e.Covered = g.trial.Results()
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
	g.known.Hold(g.judge.Holders())
	b.Undetermined = sum.Undetermined
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
			Captures: e.Captures, Limited: e.Whose.Of, NoOwner: e.Whose.Owner, NoCaller: e.Whose.Caller})
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
		ResponseMissing: c.Response.Missing, Who: c.Who, Holder: c.Holder, Theirs: c.Theirs}
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
