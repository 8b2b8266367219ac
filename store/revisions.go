package store

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"strings"
	"time"
)

// Revision is a version of a service's contracts.
type Revision struct {
	Service   string         // the service under review
	Number    int            // from 1 on
	Files     []ContractFile // left out of listings
	Author    string         // who did it, by name
	AuthorID  int64          // the number of who made it
	Reason    string         // why, in the words of who did it
	Created   time.Time      // when it was made
	Endpoints int            // how many it has
	State     RevisionState  // in force, waiting, declined or earlier
	Base      int            // the revision that was in force when it was made
	Direction string         // widening, narrowing, neutral; empty for one made before that was told
	Reaches   string         // the gravest class that it lets out more of
	Words     []Words        // what it changes, most grave first
	DecidedBy string         // by name; empty while it waits
	Decided   time.Time      // when; the zero time while it waits
	Decision  string         // what was said with it
}

// Words is one sentence about what a revision changes.
type Words struct {
	Direction string `json:"direction"` // widening, narrowing or neutral
	Text      string `json:"text"`      // one sentence
}

// RevisionState is the state of a revision.
type RevisionState string

const (
	InForce  RevisionState = "in-force" // the newest that took effect
	Earlier  RevisionState = "earlier"  // it was in force
	Waiting  RevisionState = "waiting"  // for a second person
	Declined RevisionState = "declined" // by a second person
)

// ErrOutdated is returned if another revision came into force meanwhile.
var ErrOutdated = errors.New("another revision is in force by now")

const revisionColumns = `services.name, number, author, author_id, reason, revisions.created, endpoints, state, base, direction, reaches, words, decided_by, decided, decision, in_force`

const revisionTables = ` FROM revisions JOIN services ON services.id = service_id`

func scanRevision(r scanner, more ...any) (Revision, error) {
	var v Revision
	var created, decided int64
	var state, words string
	var inForce int
	err := r.Scan(append([]any{&v.Service, &v.Number, &v.Author, &v.AuthorID, &v.Reason, &created, &v.Endpoints, &state,
		&v.Base, &v.Direction, &v.Reaches, &words,
		&v.DecidedBy, &decided, &v.Decision, &inForce}, more...)...)
	if err != nil {
		return v, err
	}
	v.Created, v.Decided, v.State = when(created), when(decided), RevisionState(state)
	if state == "taken" {
		v.State = Earlier
		if v.Number == inForce {
			v.State = InForce
		}
	}
	return v, json.Unmarshal([]byte(words), &v.Words)
}

// Revision returns the contracts in force of a service, or [ErrNotFound].
func (s *Contracts) Revision(ctx context.Context, service string) (Revision, error) {
	return s.revision(ctx, ` WHERE services.name = ? AND number = in_force`, service)
}

// RevisionNumber returns one revision of a service, or [ErrNotFound].
func (s *Contracts) RevisionNumber(ctx context.Context, service string, number int) (Revision, error) {
	return s.revision(ctx, ` WHERE services.name = ? AND number = ?`, service, number)
}

func (s *Contracts) revision(ctx context.Context, where string, args ...any) (Revision, error) {
	var files string
	v, err := scanRevision(s.db.read.QueryRowContext(ctx, `SELECT `+revisionColumns+`, files`+revisionTables+where,
		args...), &files)
	if err != nil {
		return v, none(err)
	}
	return v, json.Unmarshal([]byte(files), &v.Files)
}

// Revisions returns a page of revisions without their files, newest first, and their total number. An empty service
// or state matches all.
func (s *Contracts) Revisions(ctx context.Context, service string, state RevisionState,
	page Page) ([]Revision, int, error) {
	var f filter
	if service != "" {
		f.and("services.name = ?", service)
	}
	if state != "" {
		f.and("state = ?", state)
	}
	var total int
	if err := s.db.read.QueryRowContext(ctx, `SELECT count(*)`+revisionTables+f.sql(),
		f.args...).Scan(&total); err != nil {
		return nil, 0, err
	}
	all, err := rows(ctx, s.db.read, func(r scanner) (Revision, error) { return scanRevision(r) },
		`SELECT `+revisionColumns+revisionTables+f.sql()+` ORDER BY revisions.created DESC, number DESC`+page.sql(),
		f.args...)
	return all, total, err
}

// EndpointInContract is an endpoint of a revision.
type EndpointInContract struct {
	Text string // as the contract writes it
	Team string // whose it is; empty for nobody
}

// Effect is what putting a revision in force changes, computed beforehand.
type Effect struct {
	Endpoints []EndpointInContract // all that the contracts have
	Classed   []Classing           // fields that get a class
	Unclassed []Classing           // fields that have no class, or are gone
	Granted   []string             // findings that the contracts now permit, as they are called from then on
	Before    []string             // those of them that nothing else tells of from then on, as they are called so far
	Came      []Finding            // findings that recorded captures now show
	Renaming  *Renaming            // endpoints that are called otherwise; nil for none
	Excepted  map[string]string    // findings whose exception changes, by id: its reason, empty for none any more
	Kept      []Kept               // the classes of fields from then on, of those that are gone as well
	Shows     []Occurrence         // what recorded captures show under them
}

// Kept is the last class of a field that may be deleted by now.
type Kept struct {
	Entity, Field string // by name
	StoredAs      string // table or collection
	Type          string // of its values
	Class         string // public, internal, personal or secret
}

// Kept lists the classes of all fields that a service has or had.
func (s *Contracts) Kept(ctx context.Context, service string) ([]Kept, error) {
	return rows(ctx, s.db.read, func(r scanner) (k Kept, err error) {
		return k, r.Scan(&k.Entity, &k.Field, &k.StoredAs, &k.Type, &k.Class)
	}, `SELECT entity, field, stored_as, type, class FROM kept WHERE service_id = (SELECT id FROM services WHERE name = ?)`, service)
}

// Classing is who classified a field, and when.
type Classing struct {
	Entity, Field, Class string    // by name
	Author               string    // who did it, by name
	At                   time.Time // when
	Revision             int       // its number, 0 for none
}

// AddRevision stores a new revision and, unless it waits for approval, puts it in force with its effect. It returns
// the revision with its number, or [ErrOutdated] if a revision other than v.Base is in force.
func (s *Contracts) AddRevision(ctx context.Context, v Revision, effect *Effect,
	note Note[Revision]) (Revision, error) {
	files, err := json.Marshal(v.Files)
	if err != nil {
		return v, err
	}
	words, err := json.Marshal(append([]Words{}, v.Words...))
	if err != nil {
		return v, err
	}
	state := "taken"
	if v.State == Waiting {
		state = "waiting"
	}
	err = s.db.change(ctx, func(tx *sql.Tx) error {
		var id int64
		var inForce int
		if err := tx.QueryRowContext(ctx,
			`INSERT INTO services (name, created) VALUES (?, ?) ON CONFLICT DO UPDATE SET name = name RETURNING id, in_force`,
			v.Service, millis(v.Created)).Scan(&id, &inForce); err != nil {
			return err
		}
		if inForce != v.Base {
			return ErrOutdated
		}
		if err := tx.QueryRowContext(ctx,
			`INSERT INTO revisions (service_id, number, files, author, author_id, reason, created, endpoints, state, base, direction, reaches, words)
			SELECT ?, coalesce(max(number), 0) + 1, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ? FROM revisions WHERE service_id = ? RETURNING number`,
			id, string(files), v.Author, v.AuthorID, v.Reason, millis(v.Created), v.Endpoints, state, v.Base,
			v.Direction, v.Reaches, string(words), id).Scan(&v.Number); err != nil {
			return err
		}
		if err := note.add(ctx, tx, v); err != nil {
			return err
		}
		if state == "waiting" {
			return tellApprovers(ctx, tx, v)
		}
		return s.take(ctx, tx, id, v, effect)
	})
	return v, err
}

// Decide moves a waiting revision to v.State: [InForce] puts it in force with its effect, [Declined] reopens the
// requests that it was to grant.
func (s *Contracts) Decide(ctx context.Context, v Revision, effect *Effect, entry TrailEntry) error {
	return s.db.change(ctx, func(tx *sql.Tx) error {
		var id int64
		var inForce int
		var state string
		if err := tx.QueryRowContext(ctx,
			`SELECT services.id, in_force, state FROM revisions JOIN services ON services.id = service_id WHERE services.name = ? AND number = ?`,
			v.Service, v.Number).Scan(&id, &inForce, &state); err != nil {
			return none(err)
		}
		if state != "waiting" || v.State == InForce && inForce != v.Base {
			return ErrOutdated
		}
		if err := addTrail(ctx, tx, entry); err != nil {
			return err
		}
		if state = string(v.State); v.State == InForce {
			state = "taken" // whether it is in force still, the service knows
		}
		if _, err := tx.ExecContext(ctx,
			`UPDATE revisions SET state = ?, decided_by = ?, decided = ?, decision = ? WHERE service_id = ? AND number = ?`,
			state, v.DecidedBy, millis(v.Decided), v.Decision, id, v.Number); err != nil {
			return err
		}
		n := Notice{PersonID: v.AuthorID, At: v.Decided, Kind: "revision", Author: v.DecidedBy, By: entry.PersonID,
			Service: v.Service, Revision: v.Number, Text: strings.TrimSuffix("approved: "+v.Decision, ": ")}
		if v.State == Declined {
			n.Text = "declined: " + v.Decision
		}
		if err := n.add(ctx, tx); err != nil {
			return err
		}
		if v.State == Declined {
			return reopen(ctx, tx, id, v, ` = ?2`, "the revision that grants it was declined: "+v.Decision)
		}
		return s.take(ctx, tx, id, v, effect)
	})
}

// tellApprovers notifies the people who can approve a revision.
func tellApprovers(ctx context.Context, tx *sql.Tx, v Revision) error {
	leads, err := leadsOf(ctx, tx, v.Service)
	if err != nil {
		return err
	}
	text := strings.TrimSuffix("waits for approval: "+v.Reason, ": ")
	if len(v.Words) > 0 {
		text += "\n" + v.Words[0].Text
	}
	for _, lead := range leads {
		n := Notice{PersonID: lead, At: v.Created, Kind: "revision", Author: v.Author, By: v.AuthorID,
			Service: v.Service, Revision: v.Number, Text: text}
		if err := n.add(ctx, tx); err != nil {
			return err
		}
	}
	return nil
}

// reopen reopens the requests that a revision was to grant, and notifies their authors. which is a condition on the
// request's revision, with v's number as ?2.
func reopen(ctx context.Context, tx *sql.Tx, service int64, v Revision, which, why string) error {
	at := v.Created
	if !v.Decided.IsZero() {
		at = v.Decided
	}
	open, err := rows(ctx, tx, func(r scanner) (n Notice, err error) { return n, r.Scan(&n.RequestID, &n.PersonID) },
		`UPDATE requests SET state = 'open', decided_by = '', decided = 0, decision = '', revision = 0 WHERE service_id = ?1 AND state IN ('granted', 'countered') AND revision`+which+`
			RETURNING id, person_id`, service, v.Number)
	if err != nil {
		return err
	}
	for _, n := range open {
		n.At, n.Kind, n.Author, n.Text = at, "request", v.DecidedBy, "it is open again: "+why
		if n.Author == "" {
			n.Author = v.Author
		}
		if err := n.add(ctx, tx); err != nil {
			return err
		}
	}
	return nil
}

// take puts a revision in force.
func (s *Contracts) take(ctx context.Context, tx *sql.Tx, service int64, v Revision, effect *Effect) error {
	if _, err := tx.ExecContext(ctx, `UPDATE services SET in_force = ? WHERE id = ?`, v.Number, service); err != nil {
		return err
	}
	at := v.Created
	if !v.Decided.IsZero() {
		at = v.Decided
	}
	// a waiting revision with another base can no longer be approved
	if err := reopen(ctx, tx, service, v,
		` IN (SELECT number FROM revisions WHERE service_id = ?1 AND state = 'waiting' AND number <> ?2)`,
		"the revision that grants it was made from another than is in force by now"); err != nil {
		return err
	}
	if err := effect.Renaming.rename(ctx, tx, service, v, at); err != nil {
		return err
	}
	if _, err := tx.ExecContext(ctx, `UPDATE endpoints SET known = 0 WHERE service_id = ?`, service); err != nil {
		return err
	}
	for _, e := range effect.Endpoints {
		if _, err := tx.ExecContext(ctx,
			`INSERT INTO endpoints (id, service_id, text, team, known) VALUES (?, ?, ?, ?, 1)
			ON CONFLICT DO UPDATE SET known = 1, team = excluded.team`, EndpointID(v.Service, e.Text), service, e.Text,
			e.Team); err != nil {
			return err
		}
	}
	for _, c := range effect.Classed {
		if _, err := tx.ExecContext(ctx,
			`INSERT INTO classings (service_id, entity, field, class, author, at, revision) VALUES (?, ?, ?, ?, ?, ?, ?)
			ON CONFLICT DO UPDATE SET class = excluded.class, author = excluded.author, at = excluded.at, revision = excluded.revision`,
			service, c.Entity, c.Field, c.Class, v.Author, millis(at), v.Number); err != nil {
			return err
		}
	}
	for _, c := range effect.Unclassed {
		if _, err := tx.ExecContext(ctx, `DELETE FROM classings WHERE service_id = ? AND entity = ? AND field = ?`,
			service, c.Entity, c.Field); err != nil {
			return err
		}
	}
	if _, err := tx.ExecContext(ctx, `DELETE FROM kept WHERE service_id = ?`, service); err != nil {
		return err
	}
	for _, k := range effect.Kept {
		if _, err := tx.ExecContext(ctx,
			`INSERT INTO kept (service_id, entity, field, stored_as, type, class) VALUES (?, ?, ?, ?, ?, ?)`, service,
			k.Entity, k.Field, k.StoredAs, k.Type, k.Class); err != nil {
			return err
		}
	}
	if err := s.regrade(ctx, tx, service, v, at, effect); err != nil {
		return err
	}
	// an endpoint without a contract is deleted with its last finding
	_, err := tx.ExecContext(ctx, `DELETE FROM endpoints WHERE service_id = ? AND known = 0 AND captures = 0
		AND NOT EXISTS (SELECT 1 FROM findings WHERE endpoint_id = endpoints.id)`, service)
	return err
}

// regrade removes the findings that the contracts now permit, and adds those that recorded captures now show.
func (s *Contracts) regrade(ctx context.Context, tx *sql.Tx, service int64, v Revision, at time.Time,
	effect *Effect) error {
	for _, id := range effect.Granted {
		var was string
		err := tx.QueryRowContext(ctx,
			`SELECT state FROM findings WHERE id = ? AND state NOT IN ('closed', 'not-a-leak')`, id).Scan(&was)
		if errors.Is(err, sql.ErrNoRows) {
			continue
		}
		if err != nil {
			return err
		}
		if _, err := tx.ExecContext(ctx, `UPDATE findings SET state = 'not-a-leak', `+decidedNoMore+
			`, granted_in = ? WHERE id = ?`, v.Number, id); err != nil {
			return err
		}
		if err := addEvent(ctx, tx, id, Event{At: at, Author: v.Author, Kind: "move", Was: was, Became: "not-a-leak",
			Revision: v.Number}); err != nil {
			return err
		}
		if err := tell(ctx, tx, id, Notice{At: at, Kind: "moved", Author: v.Author, By: v.AuthorID,
			Text: fmt.Sprintf("%s to not-a-leak: revision %d of the contracts permits it", was,
				v.Number)}); err != nil {
			return err
		}
	}
	if _, err := mergeFindings(ctx, tx, service, Batch{Started: at, Author: v.Author, By: v.AuthorID,
		Name: fmt.Sprintf("revision %d of the contracts permits it no more", v.Number)}, effect.Came); err != nil {
		return err
	}
	if err := setExcepted(ctx, tx, effect.Excepted, v.Author, v.Number, at); err != nil {
		return err
	}
	touched := map[int64]bool{}
	for _, o := range effect.Shows {
		if _, err := tx.ExecContext(ctx,
			`INSERT INTO occurrences (finding_id, capture_id, pointer, at, bytes, spots) VALUES (?, ?, ?, ?, ?, ?) ON CONFLICT DO NOTHING`,
			o.Finding, o.CaptureID, o.Pointer, o.Offset, o.Bytes, o.Spots); err != nil {
			return err
		}
		touched[o.CaptureID] = true
	}
	for _, f := range effect.Came { // of what it showed before the contracts permitted it, nothing counts twice
		if _, err := tx.ExecContext(ctx, total, f.ID); err != nil {
			return err
		}
	}
	for id := range touched {
		if _, err := tx.ExecContext(ctx,
			`UPDATE captures SET findings = (SELECT count(*) FROM occurrences WHERE capture_id = captures.id) WHERE id = ?`, id); err != nil {
			return err
		}
	}
	return nil
}

// Classings lists who classified the fields of a service.
func (s *Contracts) Classings(ctx context.Context, service string) ([]Classing, error) {
	return rows(ctx, s.db.read, func(r scanner) (Classing, error) {
		var c Classing
		var at int64
		err := r.Scan(&c.Entity, &c.Field, &c.Class, &c.Author, &at, &c.Revision)
		c.At = when(at)
		return c, err
	}, `SELECT entity, field, class, author, at, revision FROM classings JOIN services ON services.id = service_id WHERE services.name = ?`, service)
}

// Recorded calls f with a service's captures that have a body, newest first, at most the given number. An empty
// list of endpoints matches all.
func (s *Contracts) Recorded(ctx context.Context, service string, endpoints []string, most int,
	f func(Capture) error) error {
	var by filter
	by.and("services.name = ?", service)
	by.and("batches.done = 1")
	by.and("captures.bytes > 0")
	by.and("captures.holds <> 'nothing'")
	by.in("captures.endpoint_id", endpoints)
	query, err := s.db.read.QueryContext(ctx, `SELECT `+captureColumns+`, sealed`+captureTables+by.sql()+
		` ORDER BY captures.id DESC LIMIT ?`, append(by.args, most)...)
	if err != nil {
		return err
	}
	defer query.Close()
	for query.Next() {
		var c Capture
		var started, recorded int64
		if err := query.Scan(append(c.into(&started, &recorded), &c.Sealed)...); err != nil {
			return err
		}
		c.Started, c.Recorded = when(started), when(recorded)
		if err := f(c); err != nil {
			return err
		}
	}
	return query.Err()
}
