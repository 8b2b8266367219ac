package store

import (
	"context"
	"database/sql"
	"encoding/json"
	"fmt"
	"time"
)

// Person is a user.
type Person struct {
	ID       int64  // its number, from 1 on
	Name     string // empty before they have set up
	Email    string // in lower case
	Role     string // viewer, reviewer, lead or administrator
	Password string // argon2id in PHC notation; empty until set up
	Active   bool   // may come in

	Factor     []byte // the sealed secret of the second factor
	FactorOn   bool   // it was confirmed with a code, and is asked for
	FactorStep int64  // the time step of the last code that was used

	Roles map[string]string // at services, by name, where it is not Role

	Mail   string // when notices are mailed: at-once, daily or never
	Mailed int64  // notices up to this one were mailed
	Digest string // the day of the last digest

	Subject string // issuer and subject at a provider, with a blank between; empty for none
}

// Here reports whether a person has completed their set-up.
func (p *Person) Here() bool { return p.Password != "" || p.Subject != "" }

// Key is a session of a browser or a token of a program. Only a hash of its secret is stored.
type Key struct {
	ID       int64     // its number
	Kind     string    // session or token
	Name     string    // of a token
	PersonID int64     // the number of the person, 0 for none
	Created  time.Time // when it was made
	Expires  time.Time // when it ends
	LastUsed time.Time // the zero time for never

	Scope   string // of a token: read, record or everything
	Service string // the only one that a token may change; empty for all
}

const personColumns = `id, name, email, role, password, active, factor, factor_on, factor_step, mail, mailed, digest, subject, ` + rolesColumn

// rolesColumn is the SQL for the roles at services, as a JSON object.
const rolesColumn = `(SELECT json_group_object(services.name, service_roles.role) FROM service_roles JOIN services ON services.id = service_id WHERE person_id = people.id)`

func scanPerson(r scanner) (Person, error) {
	var p Person
	var roles string
	if err := r.Scan(&p.ID, &p.Name, &p.Email, &p.Role, &p.Password, &p.Active, &p.Factor, &p.FactorOn, &p.FactorStep,
		&p.Mail, &p.Mailed, &p.Digest, &p.Subject, &roles); err != nil {
		return p, err
	}
	return p, json.Unmarshal([]byte(roles), &p.Roles)
}

// People lists all people by name.
func (s *People) People(ctx context.Context) ([]Person, error) {
	return rows(ctx, s.db.read, scanPerson, `SELECT `+personColumns+` FROM people ORDER BY name, email`)
}

// PersonByID returns the person with a number, or [ErrNotFound].
func (s *People) PersonByID(ctx context.Context, id int64) (Person, error) {
	p, err := scanPerson(s.db.read.QueryRowContext(ctx, `SELECT `+personColumns+` FROM people WHERE id = ?`, id))
	return p, none(err)
}

// PersonByEmail returns the person with an e-mail address, or [ErrNotFound].
func (s *People) PersonByEmail(ctx context.Context, email string) (Person, error) {
	p, err := scanPerson(s.db.read.QueryRowContext(ctx, `SELECT `+personColumns+` FROM people WHERE email = ?`, email))
	return p, none(err)
}

// AddPerson adds a person. The e-mail address must be new.
func (s *People) AddPerson(ctx context.Context, p Person, now time.Time, entry TrailEntry) (Person, error) {
	p.Active = true
	err := s.db.change(ctx, func(tx *sql.Tx) error {
		r, err := tx.ExecContext(ctx, `INSERT INTO people (name, email, role, password, created) VALUES (?, ?, ?, ?, ?)`,
			p.Name, p.Email, p.Role, p.Password, millis(now))
		if err != nil {
			return err
		}
		if p.ID, err = r.LastInsertId(); err != nil {
			return err
		}
		return addTrail(ctx, tx, entry)
	})
	return p, err
}

// Invite adds a person, whose e-mail address must be new, with the hash of their one-time code.
func (s *People) Invite(ctx context.Context, p Person, hash string, now, expires time.Time,
	entry TrailEntry) (Person, error) {
	err := s.db.change(ctx, func(tx *sql.Tx) error {
		if err := tx.QueryRowContext(ctx,
			`INSERT INTO people (name, email, role, password, created) VALUES (?, ?, ?, ?, ?) RETURNING id`,
			p.Name, p.Email, p.Role, p.Password, millis(now)).Scan(&p.ID); err != nil {
			return err
		}
		p.Active = true
		if err := addSetupCode(ctx, tx, hash, p.ID, expires); err != nil {
			return err
		}
		return addTrail(ctx, tx, entry)
	})
	return p, err
}

// AddSetupCode stores the hash of a one-time code and ends older codes of the person. personID is 0 for the code of
// the first person.
func (s *People) AddSetupCode(ctx context.Context, hash string, personID int64, expires time.Time,
	entry TrailEntry) error {
	return s.db.change(ctx, func(tx *sql.Tx) error {
		if err := addSetupCode(ctx, tx, hash, personID, expires); err != nil {
			return err
		}
		return addTrail(ctx, tx, entry)
	})
}

func addSetupCode(ctx context.Context, tx *sql.Tx, hash string, personID int64, expires time.Time) error {
	who := sql.NullInt64{Int64: personID, Valid: personID != 0}
	if _, err := tx.ExecContext(ctx, `DELETE FROM setup_codes WHERE person_id IS ?`, who); err != nil {
		return err
	}
	_, err := tx.ExecContext(ctx, `INSERT INTO setup_codes VALUES (?, ?, ?)`, hash, who, millis(expires))
	return err
}

// SetupCode returns the person of a one-time code; the zero Person for the code of the first person. It returns
// [ErrNotFound] if the code is unknown, used or expired.
func (s *People) SetupCode(ctx context.Context, hash string, now time.Time) (Person, error) {
	var who sql.NullInt64
	err := s.db.read.QueryRowContext(ctx, `SELECT person_id FROM setup_codes WHERE hash = ? AND expires > ?`, hash,
		millis(now)).Scan(&who)
	if err != nil || !who.Valid {
		return Person{}, none(err)
	}
	p, err := scanPerson(s.db.read.QueryRowContext(ctx, `SELECT `+personColumns+` FROM people WHERE id = ?`, who.Int64))
	return p, none(err)
}

// UseSetupCode uses a code to set the person's name and password. It creates the person if the code is that of the
// first person. All their sessions end, and their tokens if tokens is true. It returns [ErrNotFound] if the code is
// unknown, used or expired.
func (s *People) UseSetupCode(ctx context.Context, hash string, p Person, tokens bool, now time.Time,
	note Note[Person]) (Person, error) {
	err := s.db.change(ctx, func(tx *sql.Tx) error {
		var who sql.NullInt64
		err := tx.QueryRowContext(ctx, `DELETE FROM setup_codes WHERE hash = ? AND expires > ? RETURNING person_id`,
			hash, millis(now)).Scan(&who)
		if err != nil {
			return none(err)
		}
		if !who.Valid {
			p.Active = true
			if err := tx.QueryRowContext(ctx,
				`INSERT INTO people (name, email, role, password, created) VALUES (?, ?, ?, ?, ?) RETURNING id`,
				p.Name, p.Email, p.Role, p.Password, millis(now)).Scan(&p.ID); err != nil {
				return err
			}
			return note.add(ctx, tx, p)
		}
		set, err := scanPerson(tx.QueryRowContext(ctx,
			`UPDATE people SET name = ?, password = ? WHERE id = ? RETURNING `+personColumns,
			p.Name, p.Password, who.Int64))
		if p = set; err != nil {
			return err
		}
		if _, err = tx.ExecContext(ctx, `DELETE FROM keys WHERE person_id = ? AND (kind = 'session' OR ?)`, p.ID,
			tokens); err != nil {
			return err
		}
		return note.add(ctx, tx, p)
	})
	return p, err
}

// PersonBySubject returns the person of a provider's subject, or [ErrNotFound].
func (s *People) PersonBySubject(ctx context.Context, subject string) (Person, error) {
	p, err := scanPerson(s.db.read.QueryRowContext(ctx, `SELECT `+personColumns+` FROM people WHERE subject = ?`, subject))
	return p, none(err)
}

// BindSubject binds a person to a provider's subject, and sets their name if they have none. It returns
// [ErrConflict] if they are bound to another subject.
func (s *People) BindSubject(ctx context.Context, id int64, subject, name string, entry TrailEntry) (Person, error) {
	var p Person
	err := s.db.change(ctx, func(tx *sql.Tx) (err error) {
		p, err = scanPerson(tx.QueryRowContext(ctx,
			`UPDATE people SET subject = ?1, name = iif(name = '', ?2, name) WHERE id = ?3 AND subject IN ('', ?1) RETURNING `+personColumns, subject, name, id))
		if err = none(err); err == ErrNotFound {
			return ErrConflict
		} else if err != nil {
			return err
		}
		if _, err := tx.ExecContext(ctx, `DELETE FROM setup_codes WHERE person_id = ?`, id); err != nil {
			return err
		}
		return addTrail(ctx, tx, entry)
	})
	return p, err
}

// AddKey stores a session or token under the hash of its secret.
func (s *People) AddKey(ctx context.Context, hash string, k Key, note Note[Key]) (Key, error) {
	err := s.db.change(ctx, func(tx *sql.Tx) error {
		if err := tx.QueryRowContext(ctx,
			`INSERT INTO keys (hash, kind, person_id, name, created, expires, scope, service_id)
			VALUES (?, ?, ?, ?, ?, ?, ?, (SELECT id FROM services WHERE name = ?)) RETURNING id`,
			hash, k.Kind, k.PersonID, k.Name, millis(k.Created), millis(k.Expires), k.Scope,
			k.Service).Scan(&k.ID); err != nil {
			return err
		}
		return note.add(ctx, tx, k)
	})
	return k, err
}

const keyColumns = `keys.id, keys.kind, keys.name, keys.person_id, keys.created, keys.expires, keys.last_used, keys.scope,
	coalesce((SELECT name FROM services WHERE services.id = keys.service_id), '')`

func (k *Key) fields() (into []any, finish func()) {
	var created, expires, used int64
	return []any{&k.ID, &k.Kind, &k.Name, &k.PersonID, &created, &expires, &used, &k.Scope, &k.Service}, func() {
		k.Created, k.Expires, k.LastUsed = when(created), when(expires), when(used)
	}
}

// KeyByHash returns a session or token and its person, or [ErrNotFound]. It also returns expired ones.
func (s *People) KeyByHash(ctx context.Context, hash string) (Key, Person, error) {
	return s.key(ctx, `hash = ?`, hash)
}

// KeyByID is KeyByHash by id.
func (s *People) KeyByID(ctx context.Context, id int64) (Key, Person, error) {
	return s.key(ctx, `keys.id = ?`, id)
}

func (s *People) key(ctx context.Context, which string, value any) (Key, Person, error) {
	var k Key
	var p Person
	var roles string
	into, finish := k.fields()
	err := s.db.read.QueryRowContext(ctx, `SELECT `+keyColumns+
		`, people.id, people.name, people.email, people.role, people.password, people.active, people.factor_on, people.mail, people.subject, `+rolesColumn+`
		FROM keys JOIN people ON people.id = keys.person_id WHERE `+which, value).
		Scan(append(into, &p.ID, &p.Name, &p.Email, &p.Role, &p.Password, &p.Active, &p.FactorOn, &p.Mail, &p.Subject,
			&roles)...)
	finish()
	if err != nil {
		return k, p, none(err)
	}
	return k, p, json.Unmarshal([]byte(roles), &p.Roles)
}

// TouchKey stores that a key was used.
func (s *People) TouchKey(ctx context.Context, id int64, now time.Time) error {
	_, err := s.db.exec(ctx, `UPDATE keys SET last_used = ? WHERE id = ?`, millis(now), id)
	return err
}

// EndKey ends a person's key, or returns [ErrNotFound].
func (s *People) EndKey(ctx context.Context, id, personID int64, note Note[Key]) error {
	return s.db.change(ctx, func(tx *sql.Tx) error {
		k := Key{ID: id, PersonID: personID}
		if err := tx.QueryRowContext(ctx, `DELETE FROM keys WHERE id = ? AND person_id = ? RETURNING kind, name`, id,
			personID).Scan(&k.Kind, &k.Name); err != nil {
			return none(err)
		}
		return note.add(ctx, tx, k)
	})
}

// Keys lists a person's valid sessions or tokens, last used first.
func (s *People) Keys(ctx context.Context, personID int64, kind string, now time.Time) ([]Key, error) {
	return rows(ctx, s.db.read, func(r scanner) (Key, error) {
		var k Key
		into, finish := k.fields()
		err := r.Scan(into...)
		finish()
		return k, err
	}, `SELECT `+keyColumns+
		` FROM keys WHERE person_id = ? AND kind = ? AND expires > ? ORDER BY last_used DESC, id DESC`, personID, kind,
		millis(now))
}

// ChangePerson changes a person if check, which receives all people, does not return an error. Blocked people lose
// their sessions and tokens.
func (s *People) ChangePerson(ctx context.Context, id int64, change func(p *Person), check func(all []Person) error,
	entry TrailEntry) (Person, error) {
	var p Person
	err := s.db.change(ctx, func(tx *sql.Tx) error {
		found, err := tx.QueryContext(ctx, `SELECT `+personColumns+` FROM people ORDER BY id`)
		if err != nil {
			return err
		}
		var all []Person
		at := -1
		for found.Next() {
			one, err := scanPerson(found)
			if err != nil {
				found.Close()
				return err
			}
			if one.ID == id {
				at = len(all)
			}
			all = append(all, one)
		}
		if err := found.Err(); err != nil {
			return err
		}
		if at < 0 {
			return ErrNotFound
		}
		change(&all[at])
		if err := check(all); err != nil {
			return err
		}
		p = all[at]
		if _, err := tx.ExecContext(ctx, `UPDATE people SET role = ?, active = ? WHERE id = ?`, p.Role, p.Active,
			id); err != nil {
			return err
		}
		if _, err := tx.ExecContext(ctx, `DELETE FROM service_roles WHERE person_id = ?`, id); err != nil {
			return err
		}
		for service, role := range p.Roles {
			r, err := tx.ExecContext(ctx, `INSERT INTO service_roles SELECT ?, id, ? FROM services WHERE name = ?`, id,
				role, service)
			if err != nil {
				return err
			}
			if n, err := r.RowsAffected(); err != nil || n == 0 {
				return fmt.Errorf("the service %q: %w", service, ErrNotFound)
			}
		}
		if !p.Active {
			if _, err := tx.ExecContext(ctx, `DELETE FROM keys WHERE person_id = ?`, id); err != nil {
				return err
			}
		}
		return addTrail(ctx, tx, entry)
	})
	return p, err
}

// SetPassword sets a person's password, and ends their sessions except one.
func (s *People) SetPassword(ctx context.Context, id int64, password string, but int64, entry TrailEntry) error {
	return s.db.change(ctx, func(tx *sql.Tx) error {
		if _, err := tx.ExecContext(ctx, `UPDATE people SET password = ? WHERE id = ?`, password, id); err != nil {
			return err
		}
		if _, err := tx.ExecContext(ctx, `DELETE FROM keys WHERE person_id = ? AND kind = 'session' AND id <> ?`, id,
			but); err != nil {
			return err
		}
		return addTrail(ctx, tx, entry)
	})
}

// SetFactor sets a person's second factor: an encrypted secret, or nil for none, and the hashes of recovery codes
// once it is confirmed.
func (s *People) SetFactor(ctx context.Context, id int64, sealed []byte, on bool, recovery []string,
	entry *TrailEntry) error {
	return s.db.change(ctx, func(tx *sql.Tx) error {
		if _, err := tx.ExecContext(ctx,
			`UPDATE people SET factor = ?, factor_on = ?, factor_step = iif(?2, factor_step, 0) WHERE id = ?3`, sealed,
			on, id); err != nil {
			return err
		}
		if _, err := tx.ExecContext(ctx, `DELETE FROM recovery_codes WHERE person_id = ?`, id); err != nil {
			return err
		}
		for _, hash := range recovery {
			if _, err := tx.ExecContext(ctx, `INSERT INTO recovery_codes VALUES (?, ?)`, hash, id); err != nil {
				return err
			}
		}
		if entry == nil {
			return nil
		}
		return addTrail(ctx, tx, *entry)
	})
}

// ResealFactor replaces the encrypted secret of a person's second factor.
func (s *People) ResealFactor(ctx context.Context, id int64, sealed []byte) error {
	_, err := s.db.exec(ctx, `UPDATE people SET factor = ? WHERE id = ?`, sealed, id)
	return err
}

// UseStep stores that the code of a time step was used. It returns [ErrConflict] for that step and earlier ones
// from then on.
func (s *People) UseStep(ctx context.Context, id, step int64) error {
	r, err := s.db.exec(ctx, `UPDATE people SET factor_step = ? WHERE id = ? AND factor_step < ?`, step, id, step)
	if err != nil {
		return err
	}
	if n, err := r.RowsAffected(); err != nil || n == 0 {
		return ErrConflict
	}
	return nil
}

// UseRecovery deletes a recovery code, or returns [ErrNotFound].
func (s *People) UseRecovery(ctx context.Context, id int64, hash string, entry TrailEntry) error {
	return s.db.one(ctx, entry, `DELETE FROM recovery_codes WHERE person_id = ? AND hash = ?`, id, hash)
}

// RecoveryLeft counts a person's unused recovery codes.
func (s *People) RecoveryLeft(ctx context.Context, id int64) (n int, err error) {
	return n, s.db.read.QueryRowContext(ctx, `SELECT count(*) FROM recovery_codes WHERE person_id = ?`, id).Scan(&n)
}
