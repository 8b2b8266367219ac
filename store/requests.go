package store

import (
	"context"
	"database/sql"
	"time"
)

// Request is an exposure request: a person asks for a field to be granted at an endpoint.
type Request struct {
	ID        int64     // its number
	Service   string    // the service under review
	Endpoint  string    // as the contract writes it
	Audience  string    // by name
	Entity    string    // by name
	Field     string    // by name
	Member    string    // as it is to be called; empty: as the field
	NeededBy  string    // who or what needs it
	Reason    string    // why, in the words of who did it
	PersonID  int64     // who asks
	Author    string    // who asks
	At        time.Time // when it was made
	State     string    // open, granted, countered, declined or withdrawn
	DecidedBy string    // by name; empty while it waits
	Decided   time.Time // when; the zero time while it waits
	Decision  string    // what was said with it
	Revision  int       // of the contracts that grants it
}

const requestColumns = `requests.id, services.name, endpoint, audience, entity, field, member, needed_by, reason, person_id, author, at, state, decided_by, decided, decision, revision`

const requestTables = ` FROM requests JOIN services ON services.id = service_id`

func scanRequest(r scanner) (Request, error) {
	var q Request
	var at, decided int64
	err := r.Scan(&q.ID, &q.Service, &q.Endpoint, &q.Audience, &q.Entity, &q.Field, &q.Member, &q.NeededBy, &q.Reason,
		&q.PersonID, &q.Author, &at, &q.State, &q.DecidedBy, &decided, &q.Decision, &q.Revision)
	q.At, q.Decided = when(at), when(decided)
	return q, err
}

// AddRequest stores a request. If the same request is open, it returns that one and [ErrExists].
func (s *Contracts) AddRequest(ctx context.Context, q Request, entry TrailEntry) (Request, error) {
	err := s.db.change(ctx, func(tx *sql.Tx) error {
		var service int64
		if err := tx.QueryRowContext(ctx, `SELECT id FROM services WHERE name = ?`,
			q.Service).Scan(&service); err != nil {
			return none(err)
		}
		err := tx.QueryRowContext(ctx,
			`SELECT id FROM requests WHERE service_id = ? AND endpoint = ? AND audience = ? AND entity = ? AND field = ? AND state = 'open'`,
			service, q.Endpoint, q.Audience, q.Entity, q.Field).Scan(&q.ID)
		if err != sql.ErrNoRows {
			if err == nil {
				err = ErrExists
			}
			return err
		}
		r, err := tx.ExecContext(ctx,
			`INSERT INTO requests (service_id, endpoint, audience, entity, field, member, needed_by, reason, person_id, author, at, state) VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, 'open')`,
			service, q.Endpoint, q.Audience, q.Entity, q.Field, q.Member, q.NeededBy, q.Reason, q.PersonID, q.Author,
			millis(q.At))
		if err != nil {
			return err
		}
		if q.ID, err = r.LastInsertId(); err != nil {
			return err
		}
		return addTrail(ctx, tx, entry)
	})
	q.State = "open"
	return q, err
}

// RequestByID returns one request, or [ErrNotFound].
func (s *Contracts) RequestByID(ctx context.Context, id int64) (Request, error) {
	q, err := scanRequest(s.db.read.QueryRowContext(ctx, `SELECT `+requestColumns+requestTables+` WHERE requests.id = ?`,
		id))
	return q, none(err)
}

// RequestFilter narrows a list of requests. Empty parts match all.
type RequestFilter struct {
	States   []string // empty for all
	Service  string   // the service under review
	Endpoint string   // as the contract writes it, or as it was seen
	Person   int64    // the number of somebody it is assigned to
}

// Requests returns a page of requests, newest first, and their total number.
func (s *Contracts) Requests(ctx context.Context, by RequestFilter, page Page) (all []Request, total int, err error) {
	var f filter
	f.in("state", by.States)
	if by.Service != "" {
		f.and("services.name = ?", by.Service)
	}
	if by.Endpoint != "" {
		f.and("endpoint = ?", by.Endpoint)
	}
	if by.Person != 0 {
		f.and("person_id = ?", by.Person)
	}
	if err := s.db.read.QueryRowContext(ctx, `SELECT count(*)`+requestTables+f.sql(), f.args...).Scan(&total); err != nil {
		return nil, 0, err
	}
	all, err = rows(ctx, s.db.read, scanRequest, `SELECT `+requestColumns+requestTables+f.sql()+
		` ORDER BY requests.id DESC`+page.sql(), f.args...)
	return all, total, err
}

// DecideRequest decides an open request and notifies the requester. It returns [ErrConflict] if the request is no
// longer open.
func (s *Contracts) DecideRequest(ctx context.Context, q Request, by int64, entry TrailEntry) error {
	return s.db.change(ctx, func(tx *sql.Tx) error {
		r, err := tx.ExecContext(ctx,
			`UPDATE requests SET state = ?, decided_by = ?, decided = ?, decision = ?, revision = ? WHERE id = ? AND state = 'open'`,
			q.State, q.DecidedBy, millis(q.Decided), q.Decision, q.Revision, q.ID)
		if err != nil {
			return err
		}
		if n, err := r.RowsAffected(); err != nil || n == 0 {
			return ErrConflict
		}
		if err := addTrail(ctx, tx, entry); err != nil {
			return err
		}
		n := Notice{PersonID: q.PersonID, At: q.Decided, Kind: "request", Author: q.DecidedBy, By: by, RequestID: q.ID,
			Text: q.State}
		return n.add(ctx, tx)
	})
}
