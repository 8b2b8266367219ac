package store

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"strings"
	"time"

	"inkret/core/finding"
)

// Service is an API under review.
type Service struct {
	ID           int64  // its number
	Name         string // what it is called
	Endpoints    int    // how many it has
	Open         int    // open findings
	Revision     int    // in force, 0 for none
	SecondPerson bool   // severe decisions need a second person
}

// ContractFile is one file of a contract document.
type ContractFile struct {
	Name string `json:"name"` // what it is called
	Text string `json:"text"` // YAML or JSON
}

// Endpoint is an endpoint of a service, with or without a contract.
type Endpoint struct {
	ID       string    // see [EndpointID]
	Service  string    // the service under review
	Text     string    // as the contract writes it, or as it was seen
	Team     string    // whose it is; empty for nobody
	Known    bool      // a contract has it
	Captures int       // how many
	Open     int       // open findings
	Gravest  int       // severity of the gravest open finding, 0 for none
	Bytes    int64     // of bodies, their codings undone
	Excess   int64     // bytes that no grant covers
	LastSeen time.Time // the newest capture that showed it
}

// EndpointID returns the permanent id of an endpoint, computed from the service's name and the endpoint's text.
func EndpointID(service, text string) string {
	sum := sha256.Sum256([]byte(service + "\n" + text))
	return hex.EncodeToString(sum[:6])
}

// openStates is an SQL list of the states that need work.
var openStates = sqlList(finding.OpenStates())

// sqlList writes our own names as an SQL list. They are not bound as parameters, because partial indexes only match
// literal values.
func sqlList(names []string) string { return "('" + strings.Join(names, "', '") + "')" }

// Services lists the services by name.
func (s *Contracts) Services(ctx context.Context) ([]Service, error) {
	return rows(ctx, s.db.read, func(r scanner) (Service, error) {
		var v Service
		return v, r.Scan(&v.ID, &v.Name, &v.Endpoints, &v.Open, &v.Revision, &v.SecondPerson)
	}, `SELECT id, name,
		(SELECT count(*) FROM endpoints WHERE service_id = services.id),
		coalesce((SELECT sum(n) FROM finding_counts WHERE service_id = services.id AND state IN `+openStates+`), 0),
		in_force, second_person
		FROM services ORDER BY name`)
}

// Page selects a page of a list.
type Page struct {
	Number int // from 1
	Size   int // how many stand on a page
}

func (p Page) sql() string { return fmt.Sprintf(" LIMIT %d OFFSET %d", p.Size, (p.Number-1)*p.Size) }

// filter collects the conditions of a query.
type filter struct {
	where []string
	args  []any
}

func (f *filter) and(condition string, args ...any) {
	f.where, f.args = append(f.where, condition), append(f.args, args...)
}

// in adds a condition that a column has one of some values; no values add no condition.
func (f *filter) in(column string, values []string) {
	if len(values) == 0 {
		return
	}
	args := make([]any, len(values))
	for i, v := range values {
		args[i] = v
	}
	f.and(column+" IN (?"+strings.Repeat(", ?", len(values)-1)+")", args...)
}

// words adds a condition that each word occurs in one of the columns.
func (f *filter) words(text string, columns ...string) {
	for _, w := range strings.Fields(text) {
		w = "%" + strings.NewReplacer(`\`, `\\`, `%`, `\%`, `_`, `\_`).Replace(w) + "%"
		var any []string
		for _, c := range columns {
			any = append(any, c+` LIKE ? ESCAPE '\'`)
			f.args = append(f.args, w)
		}
		f.where = append(f.where, "("+strings.Join(any, " OR ")+")")
	}
}

func (f *filter) sql() string {
	if len(f.where) == 0 {
		return ""
	}
	return " WHERE " + strings.Join(f.where, " AND ")
}

// order converts a sort key, descending with a leading "-", to SQL. columns maps the allowed keys.
func order(key, fallback string, columns map[string]string) string {
	name, down := strings.CutPrefix(key, "-")
	column := columns[name]
	if column == "" {
		name, down = strings.CutPrefix(fallback, "-")
		column = columns[name]
	}
	if down {
		return column + " DESC"
	}
	return column
}

var endpointQuery = `SELECT endpoints.id, services.name, text, endpoints.team, known, captures, coalesce(f.open, 0), coalesce(f.gravest, 0), bytes, excess, last_seen
	FROM endpoints JOIN services ON services.id = service_id
	LEFT JOIN (SELECT endpoint_id, sum(n) AS open, max(severity) AS gravest FROM finding_counts WHERE n > 0 AND state IN ` + openStates + ` GROUP BY endpoint_id) f ON f.endpoint_id = endpoints.id`

func scanEndpoint(r scanner) (Endpoint, error) {
	var e Endpoint
	var seen int64
	err := r.Scan(&e.ID, &e.Service, &e.Text, &e.Team, &e.Known, &e.Captures, &e.Open, &e.Gravest, &e.Bytes, &e.Excess,
		&seen)
	e.LastSeen = when(seen)
	return e, err
}

// EndpointFilter narrows a list of endpoints.
type EndpointFilter struct {
	Words   string // that it contains
	Known   *bool  // nil for both
	Service string // the service under review
	Sort    string // by what; with - before it, turned round
}

// Endpoints returns a page of endpoints and their total number.
func (s *Contracts) Endpoints(ctx context.Context, by EndpointFilter, page Page) ([]Endpoint, int, error) {
	var f filter
	f.words(by.Words, "text", "endpoints.team")
	if by.Known != nil {
		f.and("known = ?", *by.Known)
	}
	if by.Service != "" {
		f.and("endpoints.service_id = (SELECT id FROM services WHERE name = ?)", by.Service)
	}
	var total int
	if err := s.db.read.QueryRowContext(ctx, `SELECT count(*) FROM endpoints`+f.sql(),
		f.args...).Scan(&total); err != nil {
		return nil, 0, err
	}
	sorted := order(by.Sort, "-open", map[string]string{"endpoint": "substr(text, instr(text, ' ') + 1)",
		"open":     "coalesce(f.open, 0)",
		"captures": "captures", "excess": "excess", "last_seen": "last_seen"})
	all, err := rows(ctx, s.db.read, scanEndpoint, endpointQuery+f.sql()+" ORDER BY "+sorted+", text"+page.sql(),
		f.args...)
	return all, total, err
}

// Endpoint returns one endpoint, or [ErrNotFound].
func (s *Contracts) Endpoint(ctx context.Context, id string) (Endpoint, error) {
	e, err := scanEndpoint(s.db.read.QueryRowContext(ctx, endpointQuery+` WHERE endpoints.id = ?`, id))
	return e, none(err)
}
