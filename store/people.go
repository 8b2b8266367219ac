package store

import (
	"context"
	"database/sql"
	"time"
)

// Person is somebody who may come in.
type Person struct {
	ID       int64
	Name     string
	Email    string
	Role     string
	Password string // argon2id in PHC notation; empty until set up
}

// Key is a session of a browser or a token of a program; its secret is kept
// hashed only.
type Key struct {
	ID       int64
	Kind     string // session or token
	Name     string
	PersonID int64
	Created  time.Time
	Expires  time.Time
	LastUsed time.Time
}

const personColumns = `id, name, email, role, password`

func scanPerson(r scanner) (Person, error) {
	var p Person
	return p, r.Scan(&p.ID, &p.Name, &p.Email, &p.Role, &p.Password)
}

// People lists everybody, by name.
func (s *Store) People(ctx context.Context) ([]Person, error) {
	return rows(ctx, s.read, scanPerson, `SELECT `+personColumns+` FROM people ORDER BY name, email`)
}

// PersonByEmail finds a person, or gives [ErrNotFound].
func (s *Store) PersonByEmail(ctx context.Context, email string) (Person, error) {
	p, err := scanPerson(s.read.QueryRowContext(ctx, `SELECT `+personColumns+` FROM people WHERE email = ?`, email))
	return p, none(err)
}

// AddPerson adds a person; the e-mail address must be new.
func (s *Store) AddPerson(ctx context.Context, p Person, now time.Time) (Person, error) {
	r, err := s.write.ExecContext(ctx, `INSERT INTO people (name, email, role, password, created) VALUES (?, ?, ?, ?, ?)`,
		p.Name, p.Email, p.Role, p.Password, millis(now))
	if err != nil {
		return p, err
	}
	p.ID, err = r.LastInsertId()
	return p, err
}

// AddSetupCode keeps the hash of a one-time code. personID is 0 for the code of
// the first person; older codes of the same person end.
func (s *Store) AddSetupCode(ctx context.Context, hash string, personID int64, expires time.Time) error {
	return s.change(ctx, func(tx *sql.Tx) error {
		who := sql.NullInt64{Int64: personID, Valid: personID != 0}
		if _, err := tx.ExecContext(ctx, `DELETE FROM setup_codes WHERE person_id IS ?`, who); err != nil {
			return err
		}
		_, err := tx.ExecContext(ctx, `INSERT INTO setup_codes VALUES (?, ?, ?)`, hash, who, millis(expires))
		return err
	})
}

// UseSetupCode ends a code and sets the person's name and password, making the
// person first where the code is that of the first one. It gives [ErrNotFound]
// for a code that is unknown, used or has ended.
func (s *Store) UseSetupCode(ctx context.Context, hash string, p Person, now time.Time) (Person, error) {
	err := s.change(ctx, func(tx *sql.Tx) error {
		var who sql.NullInt64
		err := tx.QueryRowContext(ctx, `DELETE FROM setup_codes WHERE hash = ? AND expires > ? RETURNING person_id`, hash, millis(now)).Scan(&who)
		if err != nil {
			return none(err)
		}
		if !who.Valid {
			return tx.QueryRowContext(ctx, `INSERT INTO people (name, email, role, password, created) VALUES (?, ?, ?, ?, ?) RETURNING id`,
				p.Name, p.Email, p.Role, p.Password, millis(now)).Scan(&p.ID)
		}
		set, err := scanPerson(tx.QueryRowContext(ctx, `UPDATE people SET name = ?, password = ? WHERE id = ? RETURNING `+personColumns,
			p.Name, p.Password, who.Int64))
		p = set
		return err
	})
	return p, err
}

// AddKey keeps a session or token under the hash of its secret.
func (s *Store) AddKey(ctx context.Context, hash string, k Key) (Key, error) {
	r, err := s.write.ExecContext(ctx, `INSERT INTO keys (hash, kind, person_id, name, created, expires) VALUES (?, ?, ?, ?, ?, ?)`,
		hash, k.Kind, k.PersonID, k.Name, millis(k.Created), millis(k.Expires))
	if err != nil {
		return k, err
	}
	k.ID, err = r.LastInsertId()
	return k, err
}

const keyColumns = `keys.id, keys.kind, keys.name, keys.person_id, keys.created, keys.expires, keys.last_used`

func (k *Key) fields() (into []any, finish func()) {
	var created, expires, used int64
	return []any{&k.ID, &k.Kind, &k.Name, &k.PersonID, &created, &expires, &used}, func() {
		k.Created, k.Expires, k.LastUsed = when(created), when(expires), when(used)
	}
}

// KeyByHash finds a session or token and its person, or gives [ErrNotFound]. It
// gives ended ones too.
func (s *Store) KeyByHash(ctx context.Context, hash string) (Key, Person, error) {
	var k Key
	var p Person
	into, finish := k.fields()
	err := s.read.QueryRowContext(ctx, `SELECT `+keyColumns+`, people.id, people.name, people.email, people.role, people.password
		FROM keys JOIN people ON people.id = keys.person_id WHERE hash = ?`, hash).
		Scan(append(into, &p.ID, &p.Name, &p.Email, &p.Role, &p.Password)...)
	finish()
	return k, p, none(err)
}

// TouchKey notes that a key was used.
func (s *Store) TouchKey(ctx context.Context, id int64, now time.Time) error {
	_, err := s.write.ExecContext(ctx, `UPDATE keys SET last_used = ? WHERE id = ?`, millis(now), id)
	return err
}

// EndKey ends a key of a person, or gives [ErrNotFound].
func (s *Store) EndKey(ctx context.Context, id, personID int64) error {
	r, err := s.write.ExecContext(ctx, `DELETE FROM keys WHERE id = ? AND person_id = ?`, id, personID)
	if err != nil {
		return err
	}
	if n, _ := r.RowsAffected(); n == 0 {
		return ErrNotFound
	}
	return nil
}

// Tokens lists a person's tokens that have not ended, newest first.
func (s *Store) Tokens(ctx context.Context, personID int64, now time.Time) ([]Key, error) {
	return rows(ctx, s.read, func(r scanner) (Key, error) {
		var k Key
		into, finish := k.fields()
		err := r.Scan(into...)
		finish()
		return k, err
	}, `SELECT `+keyColumns+` FROM keys WHERE person_id = ? AND kind = 'token' AND expires > ? ORDER BY id DESC`, personID, millis(now))
}
