package store

import (
	"context"
	"time"

	"inkret/core/finding"
)

// Trends, computed from the history of findings. Nothing else is stored for them.

// Turn is how many findings of a severity were opened or ended on a day.
type Turn struct {
	Day      string // as YYYY-MM-DD in UTC
	Severity int    // of the finding
	Came     int    // found, or open again
	Went     int    // closed, waived or judged no leak
}

// Proven is how long a finding took from its report, or return, to its proof.
type Proven struct {
	Severity int           // greater is graver; see package severity
	Took     time.Duration // from the repair to its proof
}

// WorstOf counts the open findings of an endpoint, field or team, by severity.
type WorstOf struct {
	Name     string // what it is called
	Key      string // by which they are listed: an endpoint's id, a team, an entity and field
	Severity int    // greater is graver; see package severity
	Open     int    // how many are open
}

// StandingFilter narrows trends. Empty parts match all.
type StandingFilter struct {
	Service, Team string // empty for all
}

func (by *StandingFilter) filter() filter {
	var f filter
	if by.Service != "" {
		f.and("findings.service_id = (SELECT id FROM services WHERE name = ?)", by.Service)
	}
	if by.Team != "" {
		f.and("iif(assigned_team = '', team, assigned_team) = ?", by.Team)
	}
	return f
}

// LastEvent returns the number of the latest event of any finding.
func (s *Findings) LastEvent(ctx context.Context) (event int64, err error) {
	return event, s.db.read.QueryRowContext(ctx, `SELECT coalesce(max(id), 0) FROM events`).Scan(&event)
}

// Weights lists captured bytes by endpoint, audience and day.
func (s *Findings) Weights(ctx context.Context, by StandingFilter) ([]finding.Weighed, error) {
	var f filter
	f.and("weights.captures > 0")
	if by.Service != "" {
		f.and("endpoints.service_id = (SELECT id FROM services WHERE name = ?)", by.Service)
	}
	if by.Team != "" {
		f.and("endpoints.team = ?", by.Team)
	}
	return rows(ctx, s.db.read, func(r scanner) (w finding.Weighed, err error) {
		return w, r.Scan(&w.Endpoint, &w.Audience, &w.Day, &w.Captures, &w.Bytes, &w.Excess)
	}, `SELECT endpoint_id, audience, day, weights.captures, weights.bytes, weights.excess FROM weights JOIN endpoints ON endpoints.id = endpoint_id`+f.sql(), f.args...)
}

// EndpointNames returns the texts of endpoints by id.
func (s *Findings) EndpointNames(ctx context.Context, ids []string) (map[string]string, error) {
	return s.pairs(ctx, `SELECT id, text FROM endpoints`, ids)
}

// Turns lists opened and ended findings by day and severity, oldest first.
func (s *Findings) Turns(ctx context.Context, by StandingFilter) ([]Turn, error) {
	f := by.filter()
	f.and("(events.kind = 'found' OR events.kind IN ('move', 'withdrawn') AND was <> '' AND (was IN " + openStates +
		") <> (became IN " + openStates + "))")
	return rows(ctx, s.db.read, func(r scanner) (t Turn, err error) {
		return t, r.Scan(&t.Day, &t.Severity, &t.Came,
			&t.Went)
	},
		`SELECT date(at / 1000, 'unixepoch') AS day, severity, sum(events.kind = 'found' OR became IN `+openStates+
			`), sum(events.kind <> 'found' AND became NOT IN `+openStates+`)
		FROM events JOIN findings ON findings.id = finding_id`+f.sql()+` GROUP BY day, severity ORDER BY day`,
		f.args...)
}

// Proofs lists how long proofs took since a time.
func (s *Findings) Proofs(ctx context.Context, by StandingFilter, since time.Time) ([]Proven, error) {
	f := by.filter()
	f.and("events.kind = 'move' AND events.became = 'closed' AND at >= ?", millis(since))
	f.and("NOT EXISTS (SELECT 1 FROM events back WHERE back.finding_id = findings.id AND back.kind = 'withdrawn' " +
		"AND back.was = 'closed' AND back.id > events.id AND back.batch_id = events.batch_id)")
	return rows(ctx, s.db.read, func(r scanner) (Proven, error) {
		var p Proven
		var took int64
		err := r.Scan(&p.Severity, &took)
		p.Took = time.Duration(took) * time.Millisecond
		return p, err
	}, `SELECT severity, max(0, at - coalesce((SELECT max(came.at) FROM events came WHERE came.finding_id = findings.id AND came.id < events.id AND (came.kind = 'found' OR came.became = 'returned')), at))
		FROM events JOIN findings ON findings.id = finding_id`+f.sql(), f.args...)
}

// The parts that [Findings.Worst] counts by: the SQL for a name, and for the query of its list.
var worstParts = map[string][2]string{
	"endpoint": {"endpoint", "endpoint_id"},
	"field":    {"entity || '.' || field", "entity || char(10) || field"},
	"team":     {"iif(assigned_team = '', team, assigned_team)", "iif(assigned_team = '', team, assigned_team)"},
}

// Worst counts open findings by endpoint, field or team.
func (s *Findings) Worst(ctx context.Context, by StandingFilter, part string) ([]WorstOf, error) {
	f := by.filter()
	f.and("state IN " + openStates)
	if part == "field" {
		f.and("field <> ''")
	}
	name, key := worstParts[part][0], worstParts[part][1]
	return rows(ctx, s.db.read, func(r scanner) (w WorstOf, err error) {
		return w, r.Scan(&w.Name, &w.Key, &w.Severity,
			&w.Open)
	},
		`SELECT `+name+`, `+key+`, severity, count(*) FROM findings`+f.sql()+` GROUP BY 1, 2, 3`, f.args...)
}

// Group is a set of findings with something in common, of one severity.
type Group struct {
	Key       string // what they have in common
	Name      string // the same for people
	Severity  int    // greater is graver; see package severity
	Findings  int    // how many
	Endpoints int    // at how many
}

// The parts that [Findings.Groups] groups by: the SQL for a key and a name.
var groupParts = map[string][2]string{
	"field":    {"entity || char(10) || field", "entity || '.' || field"},
	"endpoint": {"endpoint_id", "endpoint"},
	"team":     {"iif(assigned_team = '', team, assigned_team)", "iif(assigned_team = '', team, assigned_team)"},
	"kind":     {"kind", "kind"},
	"place":    {"grant_file || ':' || grant_line", "grant_file || ':' || grant_line"}, // in the contracts
	"value":    {"shared.print", "n || ' ' || max(entity || '.' || field)"},            // how many values, and of what
}

// valueSets are values that leaked at the same findings, at least two: one print of theirs, and their number.
const valueSets = `(SELECT min(print) AS print, count(*) AS n FROM (SELECT print, group_concat(finding_id) AS held
	FROM (SELECT DISTINCT print, finding_id FROM prints ORDER BY print, finding_id) GROUP BY print HAVING count(*) > 1) GROUP BY held) shared`

// Groups groups the findings that match, by severity. Values that leaked at the same findings are one group; values
// that leaked at a single finding form none.
func (s *Findings) Groups(ctx context.Context, by FindingFilter, part string) ([]Group, error) {
	if few, ok := by.counted(); ok && (part == "endpoint" || part == "kind") { // of these, counts are kept
		few.and("n > 0")
		key, name := part, part
		if part == "endpoint" {
			key, name = "endpoint_id", "(SELECT text FROM endpoints WHERE endpoints.id = endpoint_id)"
		}
		return rows(ctx, s.db.read, func(r scanner) (g Group, err error) {
			return g, r.Scan(&g.Key, &g.Name, &g.Severity, &g.Findings, &g.Endpoints)
		}, `SELECT `+key+`, coalesce(`+name+`, ''), severity, sum(n), count(DISTINCT endpoint_id) FROM finding_counts`+
			few.sql()+` GROUP BY 1, severity`, few.args...)
	}
	f := by.filter()
	tables := ` FROM findings`
	switch part {
	case "field":
		f.and("field <> ''")
	case "place":
		f.and("grant_file <> ''")
	case "value":
		tables += ` JOIN ` + valueSets +
			` JOIN (SELECT DISTINCT print, finding_id FROM prints) held ON held.print = shared.print AND finding_id = findings.id`
	}
	key, name := groupParts[part][0], groupParts[part][1]
	return rows(ctx, s.db.read, func(r scanner) (g Group, err error) {
		return g, r.Scan(&g.Key, &g.Name, &g.Severity, &g.Findings, &g.Endpoints)
	}, `SELECT `+key+`, `+name+`, severity, count(*), count(DISTINCT endpoint_id)`+tables+f.sql()+
		` GROUP BY 1, severity`, f.args...)
}

// Beside lists the findings that are open, or closed by proof, at the same endpoint, audience, status and
// direction.
func (s *Findings) Beside(ctx context.Context, f Finding) ([]Finding, error) {
	return rows(ctx, s.db.read, func(r scanner) (b Finding, err error) {
		return b, r.Scan(&b.ID, &b.Kind, &b.Path, &b.Entity, &b.Field, &b.State)
	}, `SELECT id, kind, path, entity, field, state FROM findings WHERE endpoint_id = ? AND audience = ? AND status = ? AND direction = ? AND (state = 'closed' OR state IN `+openStates+`)`, f.EndpointID, f.Audience, f.Status, f.Direction)
}
