package store

import (
	"context"
	"database/sql"
	"encoding/json"
	"time"
)

// Keeping is how long a service's bodies are kept.
type Keeping struct {
	Days   int  // 0 is without end
	Bodies bool // false keeps an outline alone from the beginning
}

// Keeping returns how long a service's bodies are kept, or [ErrNotFound].
func (s *Captures) Keeping(ctx context.Context, service string) (Keeping, error) {
	var k Keeping
	err := s.db.read.QueryRowContext(ctx, `SELECT keep_days, keep_bodies FROM services WHERE name = ?`,
		service).Scan(&k.Days, &k.Bodies)
	return k, none(err)
}

// SetKeeping sets how long a service's bodies are kept.
func (s *Captures) SetKeeping(ctx context.Context, service string, k Keeping, t TrailEntry) error {
	return s.db.change(ctx, func(tx *sql.Tx) error {
		if _, err := tx.ExecContext(ctx, `UPDATE services SET keep_days = ?, keep_bodies = ? WHERE name = ?`, k.Days,
			k.Bodies, service); err != nil {
			return err
		}
		return addTrail(ctx, tx, t)
	})
}

// Purgeable lists captures whose bodies should be purged: those that are too old, or of services that keep no
// bodies.
func (s *Captures) Purgeable(ctx context.Context, now time.Time, most int) ([]Capture, error) {
	return rows(ctx, s.db.read, func(r scanner) (Capture, error) {
		var c Capture
		return c, r.Scan(&c.ID, &c.Service, &c.Sealed)
	}, `SELECT captures.id, services.name, sealed FROM captures JOIN batches ON batches.id = batch_id JOIN services ON services.id = service_id
		WHERE holds = 'bodies' AND done = 1 AND (keep_bodies = 0 OR keep_days > 0 AND batches.started < ? - keep_days * 86400000) LIMIT ?`, millis(now), most)
}

// Reseal replaces the sealed part of captures, and what it holds.
func (s *Captures) Reseal(ctx context.Context, captures []Capture) error {
	return s.db.change(ctx, func(tx *sql.Tx) error {
		for _, c := range captures {
			if _, err := tx.ExecContext(ctx, `UPDATE captures SET sealed = ?, holds = ? WHERE id = ?`, c.Sealed,
				c.Holds, c.ID); err != nil {
				return err
			}
		}
		return nil
	})
}

// PurgeSamples deletes the masked samples of findings that no capture with bodies shows.
func (s *Captures) PurgeSamples(ctx context.Context, note Note[int]) (int, error) {
	samples := 0
	err := s.db.change(ctx, func(tx *sql.Tx) error {
		r, err := tx.ExecContext(ctx,
			`UPDATE findings SET sample = '' WHERE sample <> '' AND captures > 0 AND NOT EXISTS
			(SELECT 1 FROM occurrences JOIN captures ON captures.id = capture_id WHERE finding_id = findings.id AND holds = 'bodies')`)
		if err != nil {
			return err
		}
		n, err := r.RowsAffected()
		if samples = int(n); err != nil {
			return err
		}
		return note.add(ctx, tx, samples)
	})
	return samples, err
}

// Sealed lists captures with ids greater than after, in ascending order.
func (s *Captures) Sealed(ctx context.Context, after int64, most int) ([]Capture, error) {
	return rows(ctx, s.db.read, func(r scanner) (Capture, error) {
		var c Capture
		return c, r.Scan(&c.ID, &c.Sealed, &c.Holds)
	}, `SELECT id, sealed, holds FROM captures WHERE id > ? ORDER BY id LIMIT ?`, after, most)
}

// Credentials are the header fields used to send calls as an audience.
type Credentials struct {
	Audience string    // by name
	Person   string    // what one of several people of the audience is called; empty for the first
	Names    []string  // of the header fields
	Sealed   []byte    // the fields, encrypted
	Author   string    // who did it, by name
	At       time.Time // when
}

// SetCredentials replaces the credentials of an audience. Without names they are deleted.
func (s *Captures) SetCredentials(ctx context.Context, service string, c Credentials, t TrailEntry) error {
	return s.db.change(ctx, func(tx *sql.Tx) error {
		var id int64
		if err := tx.QueryRowContext(ctx, `SELECT id FROM services WHERE name = ?`, service).Scan(&id); err != nil {
			return none(err)
		}
		if _, err := tx.ExecContext(ctx, `DELETE FROM credentials WHERE service_id = ? AND audience = ? AND person = ?`,
			id, c.Audience, c.Person); err != nil {
			return err
		}
		if len(c.Names) > 0 {
			names, err := json.Marshal(c.Names)
			if err != nil {
				return err
			}
			if _, err := tx.ExecContext(ctx,
				`INSERT INTO credentials (service_id, audience, person, names, sealed, author, at) VALUES (?, ?, ?, ?, ?, ?, ?)`,
				id, c.Audience, c.Person, string(names), c.Sealed, c.Author, millis(c.At)); err != nil {
				return err
			}
		}
		return addTrail(ctx, tx, t)
	})
}

// AllCredentials lists the credentials of a service.
func (s *Captures) AllCredentials(ctx context.Context, service string) ([]Credentials, error) {
	return rows(ctx, s.db.read, func(r scanner) (Credentials, error) {
		var c Credentials
		var names string
		var at int64
		if err := r.Scan(&c.Audience, &c.Person, &names, &c.Sealed, &c.Author, &at); err != nil {
			return c, err
		}
		c.At = when(at)
		return c, json.Unmarshal([]byte(names), &c.Names)
	}, `SELECT audience, person, names, sealed, author, at FROM credentials JOIN services ON services.id = service_id WHERE services.name = ? ORDER BY audience, person`, service)
}

// ReplaceSecrets replaces the encrypted part of a service's credentials.
func (s *Captures) ReplaceSecrets(ctx context.Context, service string, all []Credentials) error {
	return s.db.change(ctx, func(tx *sql.Tx) error {
		for _, c := range all {
			if _, err := tx.ExecContext(ctx,
				`UPDATE credentials SET sealed = ? WHERE audience = ? AND person = ? AND service_id = (SELECT id FROM services WHERE name = ?)`,
				c.Sealed, c.Audience, c.Person, service); err != nil {
				return err
			}
		}
		return nil
	})
}

// AllowedServer is a server to which calls may be sent.
type AllowedServer struct {
	Server  string    // scheme and host
	Address string    // where it is reached, if not where its name leads
	Author  string    // who did it, by name
	At      time.Time // when
}

// AllowServer allows calls to a server, or changes its address.
func (s *Captures) AllowServer(ctx context.Context, service string, a AllowedServer, t TrailEntry) error {
	return s.db.change(ctx, func(tx *sql.Tx) error {
		var id int64
		if err := tx.QueryRowContext(ctx, `SELECT id FROM services WHERE name = ?`, service).Scan(&id); err != nil {
			return none(err)
		}
		if _, err := tx.ExecContext(ctx, `INSERT INTO allowed_servers VALUES (?, ?, ?, ?, ?)
			ON CONFLICT DO UPDATE SET address = excluded.address, author = excluded.author, at = excluded.at`, id,
			a.Server, a.Address, a.Author, millis(a.At)); err != nil {
			return err
		}
		return addTrail(ctx, tx, t)
	})
}

// ForbidServer removes a permission, or returns [ErrNotFound].
func (s *Captures) ForbidServer(ctx context.Context, service, server string, t TrailEntry) error {
	return s.db.change(ctx, func(tx *sql.Tx) error {
		r, err := tx.ExecContext(ctx,
			`DELETE FROM allowed_servers WHERE server = ? AND service_id = (SELECT id FROM services WHERE name = ?)`,
			server, service)
		if err != nil {
			return err
		}
		if n, err := r.RowsAffected(); err != nil || n == 0 {
			return ErrNotFound
		}
		return addTrail(ctx, tx, t)
	})
}

// AllowedServers lists the servers of a service to which calls may be sent.
func (s *Captures) AllowedServers(ctx context.Context, service string) ([]AllowedServer, error) {
	return rows(ctx, s.db.read, func(r scanner) (AllowedServer, error) {
		var a AllowedServer
		var at int64
		err := r.Scan(&a.Server, &a.Address, &a.Author, &at)
		a.At = when(at)
		return a, err
	}, `SELECT server, address, author, at FROM allowed_servers JOIN services ON services.id = service_id WHERE services.name = ? ORDER BY server`, service)
}
