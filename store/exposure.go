package store

import (
	"context"
	"database/sql"
	"encoding/json"
	"time"

	"inkret/core/kind"
)

// Shown is a granted field that captures showed to an audience at an endpoint.
type Shown struct {
	Endpoint string    // its text
	Audience string    // by name
	Entity   string    // by name
	Field    string    // by name
	LastSeen time.Time // the newest capture that showed it
}

// Exercised is a response that captures exercised.
type Exercised struct {
	Endpoint string    // its text
	Audience string    // by name
	Status   string    // the entry of the contract, or the code
	Captures int       // how many
	Limited  int       // records of which something is limited to the caller's own
	NoOwner  int       // of them, those that do not say whose they are
	NoCaller int       // of them, those of which it is not known who asked
	LastSeen time.Time // the newest capture that showed it
}

// addExposure stores what a batch showed, for the batch and in total.
func addExposure(ctx context.Context, tx *sql.Tx, b Batch, shown []Shown, exercised []Exercised) error {
	service, at := b.Service, b.Started
	for _, v := range shown {
		if _, err := tx.ExecContext(ctx,
			`INSERT INTO shown (endpoint_id, audience, entity, field, last_seen) VALUES (?, ?, ?, ?, ?)
			ON CONFLICT DO UPDATE SET last_seen = max(last_seen, excluded.last_seen)`, EndpointID(service, v.Endpoint),
			v.Audience, v.Entity, v.Field, millis(at)); err != nil {
			return err
		}
		if _, err := tx.ExecContext(ctx, `INSERT INTO batch_shown VALUES (?, ?, ?, ?, ?) ON CONFLICT DO NOTHING`, b.ID,
			EndpointID(service, v.Endpoint), v.Audience, v.Entity, v.Field); err != nil {
			return err
		}
	}
	for _, v := range exercised {
		if _, err := tx.ExecContext(ctx,
			`INSERT INTO exercised (endpoint_id, audience, status, captures, last_seen, limited, no_owner, no_caller) VALUES (?, ?, ?, ?, ?, ?, ?, ?)
			ON CONFLICT DO UPDATE SET captures = captures + excluded.captures, last_seen = max(last_seen, excluded.last_seen),
				limited = limited + excluded.limited, no_owner = no_owner + excluded.no_owner, no_caller = no_caller + excluded.no_caller`,
			EndpointID(service, v.Endpoint), v.Audience, v.Status, v.Captures, millis(at), v.Limited, v.NoOwner,
			v.NoCaller); err != nil {
			return err
		}
		if _, err := tx.ExecContext(ctx,
			`INSERT INTO batch_exercised VALUES (?, ?, ?, ?, ?, ?, ?, ?) ON CONFLICT DO UPDATE SET captures = captures + excluded.captures,
				limited = limited + excluded.limited, no_owner = no_owner + excluded.no_owner, no_caller = no_caller + excluded.no_caller`,
			b.ID, EndpointID(service, v.Endpoint), v.Audience, v.Status, v.Captures, v.Limited, v.NoOwner,
			v.NoCaller); err != nil {
			return err
		}
	}
	return nil
}

// Shown lists the granted fields of a service that captures showed.
func (s *Contracts) Shown(ctx context.Context, service string) ([]Shown, error) {
	return rows(ctx, s.db.read, func(r scanner) (Shown, error) {
		var v Shown
		var seen int64
		err := r.Scan(&v.Endpoint, &v.Audience, &v.Entity, &v.Field, &seen)
		v.LastSeen = when(seen)
		return v, err
	}, `SELECT endpoints.text, audience, entity, field, shown.last_seen FROM shown JOIN endpoints ON endpoints.id = endpoint_id JOIN services ON services.id = service_id
		WHERE services.name = ?`, service)
}

// Exercised lists the responses of a service that captures exercised.
func (s *Contracts) Exercised(ctx context.Context, service string) ([]Exercised, error) {
	return rows(ctx, s.db.read, func(r scanner) (Exercised, error) {
		var v Exercised
		var seen int64
		err := r.Scan(&v.Endpoint, &v.Audience, &v.Status, &v.Captures, &seen, &v.Limited, &v.NoOwner, &v.NoCaller)
		v.LastSeen = when(seen)
		return v, err
	}, `SELECT endpoints.text, audience, status, exercised.captures, exercised.last_seen, limited, no_owner, no_caller FROM exercised JOIN endpoints ON endpoints.id = endpoint_id
		JOIN services ON services.id = service_id WHERE services.name = ?`, service)
}

// Leak is an open finding about a member of an entity.
type Leak struct {
	Endpoint   string // as the contract writes it, or as it was seen
	EndpointID string // see [EndpointID]
	Audience   string // by name
	Entity     string // by name
	Field      string // by name
	Path       string // a JSONPath (RFC 9535)
	Finding    string // its fingerprint
	Kind       string // one of those of package kind
	Class      string // public, internal, personal or secret; empty for none
	Why        string // in words
	Severity   int    // greater is graver; see package severity
	State      string // where it stands
}

// memberKinds is an SQL list of the kinds that are about one member of a body.
var memberKinds = sqlList(kind.Members())

// Leaks lists the open findings of a service that are about an entity.
func (s *Contracts) Leaks(ctx context.Context, service string) ([]Leak, error) {
	return rows(ctx, s.db.read, func(r scanner) (Leak, error) {
		var v Leak
		return v, r.Scan(&v.Endpoint, &v.EndpointID, &v.Audience, &v.Entity, &v.Field, &v.Path, &v.Finding, &v.Kind,
			&v.Class, &v.Why, &v.Severity, &v.State)
	}, `SELECT endpoint, endpoint_id, audience, entity, field, path, findings.id, kind, class, why, severity, state FROM findings JOIN services ON services.id = service_id
		WHERE services.name = ? AND entity <> '' AND kind IN `+memberKinds+` AND state IN `+openStates+` ORDER BY severity DESC`, service)
}

// AllEndpoints lists all endpoints of a service, sorted by text.
func (s *Contracts) AllEndpoints(ctx context.Context, service string) ([]Endpoint, error) {
	return rows(ctx, s.db.read, scanEndpoint, endpointQuery+` WHERE services.name = ? ORDER BY text`, service)
}

// KeepCoverage stores a service's coverage of a day, replacing an earlier one of that day.
func (s *Contracts) KeepCoverage(ctx context.Context, service, day string, numbers map[string]int) error {
	data, err := json.Marshal(numbers)
	if err != nil {
		return err
	}
	return s.db.change(ctx, func(tx *sql.Tx) error {
		_, err := tx.ExecContext(ctx,
			`INSERT INTO coverage (service_id, day, numbers) SELECT id, ?, ? FROM services WHERE name = ? ON CONFLICT DO UPDATE SET numbers = excluded.numbers`,
			day, string(data), service)
		return err
	})
}

// CoverageDay is a service's coverage of one day.
type CoverageDay struct {
	Day     string         // as YYYY-MM-DD in UTC
	Numbers map[string]int // by what is counted
}

// CoverageTrend lists the coverage of the newest days, oldest first.
func (s *Contracts) CoverageTrend(ctx context.Context, service string, days int) ([]CoverageDay, error) {
	return rows(ctx, s.db.read, func(r scanner) (CoverageDay, error) {
		var v CoverageDay
		var data string
		if err := r.Scan(&v.Day, &data); err != nil {
			return v, err
		}
		return v, json.Unmarshal([]byte(data), &v.Numbers)
	}, `SELECT * FROM (SELECT day, numbers FROM coverage JOIN services ON services.id = service_id WHERE services.name = ? ORDER BY day DESC LIMIT ?) ORDER BY day`, service, days)
}
