package store

import (
	"context"
	"database/sql"
	"time"
)

// Hook is a webhook.
type Hook struct {
	ID      int64     // its number
	Name    string    // what it is called
	URL     string    // where it is told
	Address string    // where it is reached, if not where its name leads
	Secret  []byte    // sealed
	Kinds   string    // of events, separated by commas; empty is all
	Least   int       // severity
	Service string    // name; empty is all
	Author  string    // who did it, by name
	Created time.Time // when it was made

	LastEvent int64 // events up to this one were looked at
	Waiting   int   // deliveries
	Failed    int   // deliveries that were given up
}

// Delivery is one event sent to a webhook.
type Delivery struct {
	ID    int64     // its number
	Hook  int64     // its number
	Event string    // the body as it is sent
	Kind  string    // of the event
	Made  time.Time // when it was made
	Tries int       // how often it was tried
	Next  time.Time // when it is tried next; zero is not any more
	Done  time.Time // when it was taken
	Said  string    // what came of the last try
}

const hookColumns = `id, name, url, address, secret, kinds, least, service, author, created, last_event,
	(SELECT count(*) FROM deliveries WHERE hook_id = hooks.id AND next > 0), (SELECT count(*) FROM deliveries WHERE hook_id = hooks.id AND next = 0 AND done = 0)`

func scanHook(r scanner) (Hook, error) {
	var h Hook
	var created int64
	err := r.Scan(&h.ID, &h.Name, &h.URL, &h.Address, &h.Secret, &h.Kinds, &h.Least, &h.Service, &h.Author, &created,
		&h.LastEvent, &h.Waiting, &h.Failed)
	h.Created = when(created)
	return h, err
}

// Hooks lists all webhooks by name.
func (s *Notices) Hooks(ctx context.Context) ([]Hook, error) {
	return rows(ctx, s.db.read, scanHook, `SELECT `+hookColumns+` FROM hooks ORDER BY name, id`)
}

// HookByID returns one webhook, or [ErrNotFound].
func (s *Notices) HookByID(ctx context.Context, id int64) (Hook, error) {
	h, err := scanHook(s.db.read.QueryRowContext(ctx, `SELECT `+hookColumns+` FROM hooks WHERE id = ?`, id))
	return h, none(err)
}

// AddHook adds a webhook for events from now on.
func (s *Notices) AddHook(ctx context.Context, h Hook, entry TrailEntry) (Hook, error) {
	err := s.db.change(ctx, func(tx *sql.Tx) error {
		r, err := tx.ExecContext(ctx,
			`INSERT INTO hooks (name, url, address, secret, kinds, least, service, author, created, last_event) VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, coalesce((SELECT max(id) FROM events), 0))`,
			h.Name, h.URL, h.Address, h.Secret, h.Kinds, h.Least, h.Service, h.Author, millis(h.Created))
		if err != nil {
			return err
		}
		if h.ID, err = r.LastInsertId(); err != nil {
			return err
		}
		return addTrail(ctx, tx, entry)
	})
	return h, err
}

// DropHook deletes a webhook and its deliveries, or returns [ErrNotFound].
func (s *Notices) DropHook(ctx context.Context, id int64, entry TrailEntry) error {
	return s.db.change(ctx, func(tx *sql.Tx) error {
		r, err := tx.ExecContext(ctx, `DELETE FROM hooks WHERE id = ?`, id)
		if err != nil {
			return err
		}
		if n, err := r.RowsAffected(); err != nil || n == 0 {
			return none(sql.ErrNoRows)
		}
		return addTrail(ctx, tx, entry)
	})
}

// ResealHook replaces the encrypted secret of a webhook.
func (s *Notices) ResealHook(ctx context.Context, id int64, sealed []byte) error {
	_, err := s.db.exec(ctx, `UPDATE hooks SET secret = ? WHERE id = ?`, sealed, id)
	return err
}

// Happened is an event and the finding it belongs to.
type Happened struct {
	ID int64 // the number of the event
	Event
	Finding Finding // what it happened to
}

// HappenedAfter lists the events after a number, oldest first.
func (s *Notices) HappenedAfter(ctx context.Context, after int64, limit int) ([]Happened, error) {
	return rows(ctx, s.db.read, func(r scanner) (Happened, error) {
		var h Happened
		var at int64
		f := &h.Finding
		err := r.Scan(&h.ID, &at, &h.Author, &h.Kind, &h.Was, &h.Became, &h.Until, &f.ID, &f.Service, &f.Kind,
			&f.Severity, &f.Endpoint, &f.Team, &f.Audience, &f.Status, &f.Path, &f.Entity, &f.Field, &f.State)
		h.At = when(at)
		return h, err
	}, `SELECT events.id, at, events.author, events.kind, was, became, events.until, findings.id, services.name, findings.kind, severity, endpoint, team, audience, status, path, entity, field, state
		FROM events JOIN findings ON findings.id = finding_id JOIN services ON services.id = service_id WHERE events.id > ? ORDER BY events.id LIMIT ?`, after, limit)
}

// AddDeliveries adds deliveries of a webhook, and stores the last event that was looked at.
func (s *Notices) AddDeliveries(ctx context.Context, hook, lastEvent int64, all []Delivery, entry TrailEntry) error {
	return s.db.change(ctx, func(tx *sql.Tx) error {
		for _, d := range all {
			if _, err := tx.ExecContext(ctx,
				`INSERT INTO deliveries (hook_id, event, kind, made, next) VALUES (?, ?, ?, ?, ?)`, hook, d.Event,
				d.Kind, millis(d.Made), millis(d.Next)); err != nil {
				return err
			}
		}
		if _, err := tx.ExecContext(ctx, `UPDATE hooks SET last_event = max(last_event, ?) WHERE id = ?`, lastEvent,
			hook); err != nil {
			return err
		}
		return addTrail(ctx, tx, entry)
	})
}

const deliveryColumns = `id, hook_id, event, kind, made, tries, next, done, said`

func scanDelivery(r scanner) (Delivery, error) {
	var d Delivery
	var made, next, done int64
	err := r.Scan(&d.ID, &d.Hook, &d.Event, &d.Kind, &made, &d.Tries, &next, &done, &d.Said)
	d.Made, d.Next, d.Done = when(made), when(next), when(done)
	return d, err
}

// DueDeliveries lists the deliveries to send now, longest waiting first.
func (s *Notices) DueDeliveries(ctx context.Context, now time.Time, limit int) ([]Delivery, error) {
	return rows(ctx, s.db.read, scanDelivery, `SELECT `+deliveryColumns+
		` FROM deliveries WHERE next > 0 AND next <= ? ORDER BY next, id LIMIT ?`, millis(now), limit)
}

// Deliveries returns a page of a webhook's deliveries, newest first, and their total number.
func (s *Notices) Deliveries(ctx context.Context, hook int64, page Page) (all []Delivery, total int, err error) {
	if err := s.db.read.QueryRowContext(ctx, `SELECT count(*) FROM deliveries WHERE hook_id = ?`,
		hook).Scan(&total); err != nil {
		return nil, 0, err
	}
	all, err = rows(ctx, s.db.read, scanDelivery, `SELECT `+deliveryColumns+
		` FROM deliveries WHERE hook_id = ? ORDER BY id DESC`+page.sql(), hook)
	return all, total, err
}

// Tried stores the result of an attempt.
func (s *Notices) Tried(ctx context.Context, d Delivery) error {
	_, err := s.db.exec(ctx, `UPDATE deliveries SET tries = ?, next = ?, done = ?, said = ? WHERE id = ?`, d.Tries,
		millis(d.Next), millis(d.Done), d.Said, d.ID)
	return err
}

// TryAgain makes a delivery due again, whatever its result, or returns [ErrNotFound].
func (s *Notices) TryAgain(ctx context.Context, id int64, now time.Time, entry TrailEntry) error {
	return s.db.one(ctx, entry, `UPDATE deliveries SET next = ?, tries = 0, done = 0 WHERE id = ?`, millis(now), id)
}

// DropDeliveries deletes deliveries that ended before a time.
func (s *Notices) DropDeliveries(ctx context.Context, before time.Time) error {
	_, err := s.db.exec(ctx, `DELETE FROM deliveries WHERE next = 0 AND made < ?`, millis(before))
	return err
}
