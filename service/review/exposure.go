package review

import (
	"context"
	"fmt"
	"slices"
	"sort"
	"strings"
	"sync"
	"time"

	"inkret/core/advice"
	"inkret/core/catalog"
	"inkret/core/contract"
	"inkret/core/exposure"
	"inkret/service/base"
	"inkret/store"
)

// Flow is one way in which a field is exposed.
type Flow struct {
	Entity     string        // by name
	Field      string        // by name
	Endpoint   string        // as the contract writes it, or as it was seen
	EndpointID string        // see [EndpointID]
	Team       string        // whose it is; empty for nobody
	Audience   string        // by name
	Status     string        // of the response
	Path       string        // a JSONPath (RFC 9535)
	State      FlowState     // where it stands
	Derived    bool          // it is computed into something else
	Own        bool          // of the caller's own records only
	Class      catalog.Class // public, internal, personal or secret; empty for none
	Reason     string        // as the grant says
	NeededBy   []string      // as the grant says
	Pos        contract.Pos  // where it is written
	Finding    string        // its fingerprint, where it leaks
	Severity   int           // greater is graver; see package severity
	LastSeen   time.Time     // the newest capture that showed it
}

// FlowState is whether a field is granted, shown or leaking at an endpoint for an audience.
type FlowState string

const (
	FlowGranted  FlowState = "granted"  // and captures show it
	FlowPromised FlowState = "promised" // granted, and never seen
	FlowLeaking  FlowState = "leaking"  // seen, and not granted
)

// flows holds every way in which contracts expose fields.
type flows struct {
	all   []Flow
	index map[string][]int // by entity and field
}

func (f *flows) of(entity, field string) []Flow {
	var all []Flow
	for _, i := range f.index[entity+"."+field] {
		all = append(all, f.all[i])
	}
	return all
}

// flowCache caches the flows of the contracts in force.
type flowCache struct {
	mu   sync.Mutex                     // guards last
	last map[string]func() *flows       // by service
	at   map[string]*contract.Contracts // what they are of
}

// of returns the flows of contracts.
func (c *flowCache) of(f base.InForce) *flows {
	service := f.Revision.Service
	c.mu.Lock()
	if c.at[service] != f.Contracts {
		if c.last == nil {
			c.last, c.at = map[string]func() *flows{}, map[string]*contract.Contracts{}
		}
		c.last[service] = sync.OnceValue(func() *flows { return flowsOf(f.Contracts) })
		c.at[service] = f.Contracts
	}
	flows := c.last[service]
	c.mu.Unlock()
	return flows()
}

func flowsOf(c *contract.Contracts) *flows {
	f := &flows{index: map[string][]int{}}
	add := func(one Flow) {
		key := one.Entity + "." + one.Field
		f.index[key] = append(f.index[key], len(f.all))
		f.all = append(f.all, one)
	}
	for _, e := range c.Endpoints {
		for _, k := range e.Cases() {
			granted := exposure.Of(e.PlanOf(k))
			paths := make([]string, 0, len(granted))
			for path := range granted {
				paths = append(paths, path)
			}
			sort.Strings(paths)
			for _, path := range paths {
				x := granted[path]
				name := e.Text
				if k.Choice.Response.Name != "" {
					name += " [" + k.Choice.Response.Name + "]"
				}
				one := Flow{Entity: x.Entity, Field: x.Field, Endpoint: name, Team: e.Team, Audience: k.Audience.Name,
					Status: k.Status, Path: x.Path,
					Class: x.Class, Reason: x.Grant.Reason, NeededBy: x.Grant.NeededBy, Pos: x.Grant.Pos,
					State: FlowPromised, Own: x.Limited}
				if x.Field != "" {
					add(one)
				}
				for _, d := range x.Derived {
					one.Field, one.Derived = d, true
					add(one)
				}
			}
		}
	}
	return f
}

// Where returns where a field is granted, to whom, under which name, and where it leaks.
func (s *Review) Where(ctx context.Context, service, entity, field string) ([]Flow, error) {
	f, err := s.base.Contracts(ctx, service)
	if err != nil {
		return nil, err
	}
	if f.Contracts.Catalog.Entity(entity).Field(field) == nil {
		return nil, base.NewProblem(base.NotFound, "inkret entity list shows what there is",
			"the catalogue of %s has no field %s.%s", service, entity, field)
	}
	seen, err := s.shown(ctx, service)
	if err != nil {
		return nil, err
	}
	leaks, err := s.store.Leaks(ctx, service)
	if err != nil {
		return nil, err
	}
	var all []Flow
	for _, l := range leaks {
		if l.Entity == entity && leakField(l) == field {
			all = append(all, Flow{Entity: entity, Field: field, Endpoint: l.Endpoint, EndpointID: l.EndpointID,
				Audience: l.Audience, Path: l.Path, State: FlowLeaking,
				Finding: l.Finding, Severity: l.Severity})
		}
	}
	for _, one := range s.flows.of(f).of(entity, field) {
		one.EndpointID = store.EndpointID(service, one.Endpoint)
		if at, ok := seen[shownKey(one.Endpoint, one.Audience, entity, field)]; ok && !one.Derived {
			one.State, one.LastSeen = FlowGranted, at
		}
		all = append(all, one)
	}
	return all, nil
}

func shownKey(endpoint, audience, entity, field string) string {
	return endpoint + "\n" + audience + "\n" + entity + "." + field
}

func (s *Review) shown(ctx context.Context, service string) (map[string]time.Time, error) {
	all, err := s.store.Shown(ctx, service)
	seen := make(map[string]time.Time, len(all))
	for _, v := range all {
		seen[shownKey(v.Endpoint, v.Audience, v.Entity, v.Field)] = v.LastSeen
	}
	return seen, err
}

// ExposureMap shows entity fields by endpoint and audience. A missing cell means withheld if the column has another
// field of the entity, and otherwise that the endpoint has nothing to do with the entity.
type ExposureMap struct {
	Rows    []MapRow    // one a field
	Columns []MapColumn // one an endpoint and audience
	Cells   []MapCell   // where a field stands at an endpoint
}

// MapRow is a field.
type MapRow struct {
	Entity, Field string        // by name
	Class         catalog.Class // of the field
}

// MapColumn is an endpoint and an audience.
type MapColumn struct {
	Endpoint   string // as the contract writes it, or as it was seen
	EndpointID string // see [EndpointID]
	Audience   string // by name
	Team       string // whose it is; empty for nobody
}

// MapCell is the state of a field in a column. Both are indexes.
type MapCell struct {
	Row, Column int       // from 0 on
	State       FlowState // where it stands
	Own         bool      // of the caller's own records only, whichever way it is granted
}

// MapFilter narrows an exposure map.
type MapFilter struct {
	Entity, Class, Team, Audience string // empty for all
}

// Map returns the exposure map of a service.
func (s *Review) Map(ctx context.Context, service string, by MapFilter) (*ExposureMap, error) {
	f, err := s.base.Contracts(ctx, service)
	if err != nil {
		return nil, err
	}
	seen, err := s.shown(ctx, service)
	if err != nil {
		return nil, err
	}
	leaks, err := s.store.Leaks(ctx, service)
	if err != nil {
		return nil, err
	}
	m, rows := rowsOf(f.Contracts, by)
	columns := map[string]int{}
	teams := map[string]string{}
	for _, e := range f.Contracts.Endpoints {
		for _, name := range e.Names() {
			teams[name] = e.Team
		}
	}
	column := func(endpoint, audience string) int {
		team := teams[endpoint]
		if by.Team != "" && by.Team != team || by.Audience != "" && by.Audience != audience {
			return -1
		}
		key := endpoint + "\n" + audience
		i, met := columns[key]
		if !met {
			i = len(m.Columns)
			columns[key] = i
			m.Columns = append(m.Columns, MapColumn{endpoint, store.EndpointID(service, endpoint), audience, team})
		}
		return i
	}
	states, anybodys := map[[2]int]FlowState{}, map[[2]int]bool{}
	for _, e := range f.Contracts.Endpoints { // columns in the order of the contract
		for _, name := range e.Names() {
			for _, a := range f.Contracts.Audiences {
				column(name, a.Name)
			}
		}
	}
	for i := range s.flows.of(f).all {
		one := &s.flows.of(f).all[i]
		row, wanted := rows[one.Entity+"."+one.Field]
		if !wanted {
			continue
		}
		col := column(one.Endpoint, one.Audience)
		if col < 0 {
			continue
		}
		state := FlowPromised
		if _, ok := seen[shownKey(one.Endpoint, one.Audience, one.Entity, one.Field)]; ok || one.Derived {
			state = FlowGranted
		}
		anybodys[[2]int{row, col}] = anybodys[[2]int{row, col}] || !one.Own
		if states[[2]int{row, col}] != FlowGranted {
			states[[2]int{row, col}] = state
		}
	}
	for _, l := range leaks {
		if row, wanted := rows[l.Entity+"."+leakField(l)]; wanted {
			if col := column(l.Endpoint, l.Audience); col >= 0 {
				states[[2]int{row, col}] = FlowLeaking
			}
		}
	}
	m.Cells = cellsOf(states, anybodys)
	return m, nil
}

// rowsOf starts a map with a row for each selected field, and returns the row numbers by field.
func rowsOf(c *contract.Contracts, by MapFilter) (*ExposureMap, map[string]int) {
	m := &ExposureMap{}
	rows := map[string]int{}
	for _, e := range c.Catalog.Entities {
		for _, field := range e.Fields {
			if by.Entity != "" && by.Entity != e.Name || by.Class != "" && by.Class != classWord(field.Class) {
				continue
			}
			rows[e.Name+"."+field.Name] = len(m.Rows)
			m.Rows = append(m.Rows, MapRow{e.Name, field.Name, field.Class})
		}
	}
	return m, rows
}

// cellsOf returns the cells of a map, sorted by row and column.
func cellsOf(states map[[2]int]FlowState, anybodys map[[2]int]bool) (cells []MapCell) {
	for at, state := range states {
		cells = append(cells, MapCell{at[0], at[1], state, !anybodys[at]})
	}
	slices.SortFunc(cells, func(a, b MapCell) int {
		if a.Row != b.Row {
			return a.Row - b.Row
		}
		return a.Column - b.Column
	})
	return cells
}

// notSeenFor is how long a granted field may be unseen before advice mentions it.
const notSeenFor = 60 * 24 * time.Hour

// traffic returns what captures have shown, as input for advice.
func (s *Review) traffic(ctx context.Context, service string) (*advice.Traffic, error) {
	seen, err := s.shown(ctx, service)
	if err != nil {
		return nil, err
	}
	exercised, err := s.store.Exercised(ctx, service)
	if err != nil {
		return nil, err
	}
	captured := map[string]bool{}
	for _, e := range exercised {
		name, _, _ := strings.Cut(e.Endpoint, " [")
		captured[name+"\n"+e.Audience], captured[e.Endpoint+"\n"+e.Audience] = true, true
	}
	since := s.base.Now().Add(-notSeenFor)
	return &advice.Traffic{
		Shown: func(endpoint, audience, entity, field string) bool {
			at, ok := seen[shownKey(endpoint, audience, entity, field)]
			return ok && at.After(since)
		},
		Captured: func(endpoint, audience string) bool { return captured[endpoint+"\n"+audience] },
	}, nil
}

// Coverage is how much of the contracts and the traffic is covered, and what is missing.
type Coverage struct {
	Numbers map[string]int      // by what is counted
	Gaps    []Gap               // what is left to do
	Trend   []store.CoverageDay // by day, oldest first
}

// Gap is something that is not covered.
type Gap struct {
	Kind       string // one of the keys of coverage's numbers that count gaps
	Endpoint   string // as the contract writes it, or as it was seen
	EndpointID string // see [EndpointID]
	Audience   string // by name
	Status     string // the entry of the contract, or the code
	Entity     string // by name
	Field      string // by name
	Captures   int    // how many there are
	Records    int    // of which it is not known whose they are
	Of         int    // records that are limited to the caller's own
	Words      string // what would tell
}

// The numbers of coverage, each a total followed by what is missing of it.
const (
	Endpoints         = "endpoints"
	WithoutContract   = "without-contract"
	Contracted        = "contracts"
	NeverCaptured     = "never-captured"
	Responses         = "responses"
	NeverExercised    = "never-exercised"
	Fields            = "fields"
	FieldsUnclassed   = "unclassed"
	AudienceEndpoints = "audiences"
	NeverTried        = "never-tried"
	// responses that are limited to the caller's own records, as far as they were seen
	OwnRecords   = "own-records"
	Undetermined = "undetermined" // of these, those with records of which owner or caller is unknown
)

// Coverage returns the coverage of a service.
func (s *Review) Coverage(ctx context.Context, service string) (*Coverage, error) {
	c, err := s.coverage(ctx, service)
	if err != nil {
		return nil, err
	}
	const days = 120
	c.Trend, err = s.store.CoverageTrend(ctx, service, days)
	return c, err
}

func (s *Review) coverage(ctx context.Context, service string) (*Coverage, error) {
	f, err := s.base.Contracts(ctx, service)
	if err != nil {
		return nil, err
	}
	endpoints, err := s.store.AllEndpoints(ctx, service)
	if err != nil {
		return nil, err
	}
	exercised, err := s.store.Exercised(ctx, service)
	if err != nil {
		return nil, err
	}
	c := &Coverage{Numbers: map[string]int{}, Gaps: []Gap{}}
	for _, key := range []string{Endpoints, WithoutContract, Contracted, NeverCaptured, Responses, NeverExercised,
		Fields, FieldsUnclassed, AudienceEndpoints, NeverTried, OwnRecords, Undetermined} {
		c.Numbers[key] = 0
	}
	gap := func(g Gap) {
		c.Numbers[g.Kind]++
		c.Gaps = append(c.Gaps, g)
	}
	for _, e := range endpoints {
		if e.Captures > 0 || e.Known {
			c.Numbers[Endpoints]++
		}
		if !e.Known && e.Captures > 0 {
			gap(Gap{Kind: WithoutContract, Endpoint: e.Text, EndpointID: e.ID, Captures: e.Captures})
		}
		if e.Known {
			c.Numbers[Contracted]++
			if e.Captures == 0 {
				gap(Gap{Kind: NeverCaptured, Endpoint: e.Text, EndpointID: e.ID})
			}
		}
	}
	done := map[string]bool{}
	for _, e := range exercised {
		done[e.Endpoint+"\n"+e.Audience+"\n"+e.Status], done[e.Endpoint+"\n"+e.Audience] = true, true
		if e.Limited > 0 {
			c.Numbers[OwnRecords]++
		}
		if e.NoOwner+e.NoCaller > 0 {
			gap(undetermined(f.Contracts, service, &e))
		}
	}
	for _, e := range f.Contracts.Endpoints {
		tried := map[string]bool{}
		for _, k := range e.Cases() {
			if k.Choice.Response == nil {
				continue
			}
			name := e.Text
			if k.Choice.Response.Name != "" {
				name += " [" + k.Choice.Response.Name + "]"
			}
			id := store.EndpointID(service, name)
			if k.Status != "204" && k.Status != "304" { // there is no body to see
				c.Numbers[Responses]++
				if !done[name+"\n"+k.Audience.Name+"\n"+k.Status] {
					gap(Gap{Kind: NeverExercised, Endpoint: name, EndpointID: id, Audience: k.Audience.Name,
						Status: k.Status})
				}
			}
			if key := name + "\n" + k.Audience.Name; !tried[key] {
				tried[key] = true
				c.Numbers[AudienceEndpoints]++
				if !done[key] {
					gap(Gap{Kind: NeverTried, Endpoint: name, EndpointID: id, Audience: k.Audience.Name})
				}
			}
		}
	}
	unclassed(f.Contracts, c, gap)
	return c, nil
}

// unclassed counts fields, and tells of those without a class.
func unclassed(of *contract.Contracts, c *Coverage, gap func(Gap)) {
	for _, e := range of.Catalog.Entities {
		for _, field := range e.Fields {
			c.Numbers[Fields]++
			if field.Class == catalog.Unclassed {
				gap(Gap{Kind: FieldsUnclassed, Entity: e.Name, Field: field.Name})
			}
		}
	}
}

// undetermined is the gap of a response that has records of which it is not known whose they are.
func undetermined(c *contract.Contracts, service string, e *store.Exercised) Gap {
	var parts []string
	if e.NoCaller > 0 {
		var ways []string
		for _, t := range c.Tellers {
			ways = append(ways, t.Text())
		}
		text := fmt.Sprintf("of %d it is not known who asked: ", e.NoCaller)
		if len(ways) == 0 {
			text += "the contract has no `callers`"
		} else {
			text += "record calls with what tells it (" + strings.Join(ways, ", ") + "), or add to `callers`"
		}
		parts = append(parts, text)
	}
	if e.NoOwner > 0 {
		parts = append(parts, fmt.Sprintf("%d do not say whose they are: let the body carry the `owner` that the "+
			"entity "+
			"names, or take it from the path by `owner: {path: NAME}`", e.NoOwner))
	}
	return Gap{Kind: Undetermined, Endpoint: e.Endpoint, EndpointID: store.EndpointID(service, e.Endpoint),
		Audience: e.Audience, Status: e.Status, Captures: e.Captures, Records: e.NoOwner + e.NoCaller, Of: e.Limited,
		Words: strings.Join(parts, "; ")}
}

// NoteCoverage stores today's coverage for the trend.
func (s *Review) NoteCoverage(ctx context.Context, service string) error {
	c, err := s.coverage(ctx, service)
	if err != nil {
		return fmt.Errorf("working out the coverage: %w", err)
	}
	return s.store.KeepCoverage(ctx, service, s.base.Now().UTC().Format(time.DateOnly), c.Numbers)
}
