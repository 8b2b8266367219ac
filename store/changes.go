package store

import (
	"cmp"
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"
)

// Work of the team on findings: bulk changes and their undo, following, notifications, and saved views.

// Standing is what people decided about a finding.
type Standing struct {
	State        string   `json:"state"`         // see [finding.State]
	Until        string   `json:"until"`         // the last day, as YYYY-MM-DD in UTC; empty for none
	PersonID     int64    `json:"person_id"`     // the number of the person, 0 for none
	AssignedTeam string   `json:"assigned_team"` // in place of that of the endpoint
	Due          string   `json:"due"`           // the last day, as YYYY-MM-DD in UTC; empty for none
	Labels       []string `json:"labels"`        // sorted

	Approver string `json:"approver,omitempty"` // of its waiver, by name
	AskedTo  string `json:"asked_to,omitempty"` // the state that a second person is asked for
	Asked    string `json:"asked,omitempty"`    // the last day of a waiver that waits for approval
	AskedBy  int64  `json:"asked_by,omitempty"` // the person who wants it

	Doubt string `json:"doubt,omitempty"` // why its proof no longer counts

	Service  string `json:"-"` // of these nobody decides
	Severity int    `json:"-"` // greater is graver; see package severity

	person  string // by name
	team    string // of the endpoint
	version int
}

// assignee says in words who has it.
func (s *Standing) assignee() string {
	switch {
	case s.PersonID != 0:
		return s.person
	case s.AssignedTeam != "":
		return "team " + s.AssignedTeam
	case s.team != "":
		return "team " + s.team
	}
	return "nobody"
}

// Change is a change of several findings by one person.
type Change struct {
	Comment string // what is said with it
	Try     bool   // only say what would come of it

	ID       int64     // its number
	At       time.Time // when
	PersonID int64     // the number of the person, 0 for none
	Author   string    // who did it, by name
	Words    string    // what was changed, in words
	Findings int       // how many were changed
	Undone   bool      // it was taken back

	// of these, how many were sent to a second person, approved or declined
	Asked, Approved, Declined int

	// Mentioned lists the people whom the comment mentions
	Mentioned []int64

	asked []asked
	told  map[toldKey][]string // the findings
}

// mostTold is up to how many findings of one change a person gets a notification each; above that they get one for
// all.
const mostTold = 10

// toldKey groups the notifications of one change.
type toldKey struct {
	person     int64
	kind, text string
}

// tell notes who is to be notified of a finding: its followers and assignee, except the author and those who are
// notified otherwise.
func (c *Change) tell(ctx context.Context, tx *sql.Tx, finding, kind, text string, but ...int64) error {
	people, err := concerned(ctx, tx, finding)
	if err != nil {
		return err
	}
	for _, person := range people {
		if !slices.Contains(but, person) && !slices.Contains(c.Mentioned, person) {
			c.note(person, finding, kind, text)
		}
	}
	return nil
}

func (c *Change) note(person int64, finding, kind, text string) {
	if c.told == nil {
		c.told = map[toldKey][]string{}
	}
	key := toldKey{person, kind, text}
	c.told[key] = append(c.told[key], finding)
}

// tellAll sends the noted notifications.
func (c *Change) tellAll(ctx context.Context, tx *sql.Tx) error {
	keys := make([]toldKey, 0, len(c.told))
	for key := range c.told {
		keys = append(keys, key)
	}
	slices.SortFunc(keys, func(a, b toldKey) int {
		return cmp.Or(cmp.Compare(a.person, b.person), cmp.Compare(a.kind, b.kind), cmp.Compare(a.text, b.text))
	})
	for _, key := range keys {
		all, more := c.told[key], 0
		if len(all) > mostTold {
			more, all = len(all)-1, all[:1]
		}
		for _, id := range all {
			n := Notice{More: more, PersonID: key.person, At: c.At, Kind: key.kind, Author: c.Author, By: c.PersonID,
				FindingID: id, Text: key.text}
			if err := n.add(ctx, tx); err != nil {
				return err
			}
		}
	}
	return nil
}

// Refused is a finding that a change did not apply to, and why.
type Refused struct {
	ID  string // the fingerprint
	Why string // in words
}

// ChangeFindings changes findings in one transaction. become returns the new standing of a finding, or why it
// stays as it is. The previous standing is stored for undo. With c.Try nothing is written, and nobody held up.
// It returns the refused findings; c.Findings is the number of changes. entries returns the trail entries.
func (s *Findings) ChangeFindings(ctx context.Context, c *Change, ids []string,
	become func(was Standing) (Standing, string), entries func(*Change) []TrailEntry) (refused []Refused, err error) {
	if c.Try {
		return s.try(ctx, c, ids, become)
	}
	refused = []Refused{}
	err = s.db.change(ctx, func(tx *sql.Tx) error {
		r, err := tx.ExecContext(ctx,
			`INSERT INTO changes (at, person_id, author, words, findings) VALUES (?, ?, ?, ?, 0)`, millis(c.At),
			c.PersonID, c.Author, c.Words)
		if err != nil {
			return err
		}
		if c.ID, err = r.LastInsertId(); err != nil {
			return err
		}
		for _, id := range ids {
			was, err := standing(ctx, tx, id)
			if err == sql.ErrNoRows {
				refused = append(refused, Refused{id, "there is no such finding"})
				continue
			}
			if err != nil {
				return err
			}
			next, why := c.next(was, become)
			if why != "" {
				refused = append(refused, Refused{id, why})
				continue
			}
			c.Findings++
			if err := c.put(ctx, tx, id, was, next, c.Comment); err != nil {
				return err
			}
		}
		if c.Findings == 0 {
			return errTried
		}
		if err := c.tellLeads(ctx, tx, c.Comment); err != nil {
			return err
		}
		if err := c.tellAll(ctx, tx); err != nil {
			return err
		}
		for _, e := range entries(c) {
			if err := addTrail(ctx, tx, e); err != nil {
				return err
			}
		}
		_, err = tx.ExecContext(ctx, `UPDATE changes SET findings = ? WHERE id = ?`, c.Findings, c.ID)
		return err
	})
	if err == errTried {
		c.ID, err = 0, nil
	}
	return refused, err
}

// next returns how a finding stands after the change, or why it stays as it is.
func (c *Change) next(was Standing, become func(was Standing) (Standing, string)) (next Standing, why string) {
	next, why = become(was)
	if why == "" && next.same(&was) && c.Comment == "" {
		why = "it is so already"
	}
	return next, why
}

// count counts what becomes of a request.
func (c *Change) count(was, next *Standing) {
	switch {
	case was.Asks(next):
		c.Asked++
	case was.AskedTo != "" && next.State == was.AskedTo && next.AskedTo == "":
		c.Approved++
	case was.AskedTo != "" && next.AskedTo == "" && next.State == was.State:
		c.Declined++
	}
}

// triedAtOnce is how many findings a trial reads at once.
const triedAtOnce = 1000

// try says what would come of a change, as [Findings.ChangeFindings] would do it.
func (s *Findings) try(ctx context.Context, c *Change, ids []string,
	become func(was Standing) (Standing, string)) (refused []Refused, err error) {
	refused = []Refused{}
	became, people := map[string]Standing{}, map[int64]bool{}
	for some := range slices.Chunk(ids, triedAtOnce) {
		all, err := standings(ctx, s.db.read, some)
		if err != nil {
			return nil, err
		}
		for _, id := range some {
			was, known := all[id]
			if again, is := became[id]; is {
				was = again
			}
			if !known {
				refused = append(refused, Refused{id, "there is no such finding"})
				continue
			}
			next, why := c.next(was, become)
			if why != "" {
				refused = append(refused, Refused{id, why})
				continue
			}
			if next.PersonID != 0 && !people[next.PersonID] {
				var is int
				if err := s.db.read.QueryRowContext(ctx, `SELECT 1 FROM people WHERE id = ?`,
					next.PersonID).Scan(&is); err != nil {
					return nil, none(err)
				}
				people[next.PersonID] = true
			}
			c.Findings++
			c.count(&was, &next)
			became[id] = next
		}
	}
	return refused, nil
}

// put sets one finding's standing and stores the previous one.
func (c *Change) put(ctx context.Context, tx *sql.Tx, id string, was, next Standing, comment string) error {
	version, err := next.write(ctx, tx, id)
	if err != nil {
		return err
	}
	before, err := json.Marshal(was)
	if err != nil {
		return err
	}
	if _, err := tx.ExecContext(ctx, `INSERT INTO changed VALUES (?, ?, ?, ?)`, c.ID, id, string(before),
		version); err != nil {
		return err
	}
	if err := c.events(ctx, tx, id, was, next, comment); err != nil {
		return err
	}
	var assigned []int64
	if next.PersonID != was.PersonID && next.PersonID != 0 {
		c.note(next.PersonID, id, "assigned", comment)
		assigned = append(assigned, next.PersonID)
		if err := follow(ctx, tx, id, next.PersonID); err != nil {
			return err
		}
	}
	for _, person := range c.Mentioned {
		c.note(person, id, "mentioned", comment)
	}
	if len(c.Mentioned) > 0 {
		if err := follow(ctx, tx, id, c.Mentioned...); err != nil {
			return err
		}
	}
	c.count(&was, &next)
	if was.Asks(&next) {
		c.asked = append(c.asked, asked{id, next.Service, next.AskedTo, next.Asked})
		if err := follow(ctx, tx, id, next.AskedBy); err != nil {
			return err
		}
	}
	kind, text := whatChanged(&was, &next, comment)
	if text == "" && kind != "comment" {
		return nil
	}
	// a former assignee keeps following
	if was.PersonID != 0 && next.PersonID != was.PersonID && !slices.Contains(c.Mentioned, was.PersonID) {
		if err := follow(ctx, tx, id, was.PersonID); err != nil {
			return err
		}
	}
	return c.tell(ctx, tx, id, kind, text, assigned...)
}

// whatChanged returns the text and kind of the notification about a change.
func whatChanged(was, next *Standing, comment string) (kind, text string) {
	var parts []string
	add := func(kindOf, what string) {
		if kind == "" {
			kind = kindOf
		}
		parts = append(parts, what)
	}
	switch {
	case next.State != was.State:
		add("moved", was.State+" to "+next.State)
	case was.AskedTo != "" && next.AskedTo == "" && next.Until != was.Until: // longer or shorter
		add("moved", "the waiver is approved until "+next.Until)
	case next.Until != was.Until:
		add("moved", "the waiver ends on "+next.Until)
	case was.AskedTo != "" && next.AskedTo == "":
		add("waiver", decision(was.AskedTo, was.Asked)+" was declined: "+comment)
	case was.Asks(next):
		add("waiver", decision(next.AskedTo, next.Asked)+" waits for approval: "+comment)
	}
	if was.assignee() != next.assignee() {
		add("changed", "assigned to "+next.assignee()+" instead of "+was.assignee())
	}
	if was.Due != next.Due {
		add("changed", "due "+cmp.Or(next.Due, "on no day")+" instead of "+cmp.Or(was.Due, "on no day"))
	}
	if !slices.Equal(was.Labels, next.Labels) {
		add("changed", "labels: "+cmp.Or(strings.Join(next.Labels, ", "), "none"))
	}
	if kind == "" && comment != "" {
		return "comment", comment
	}
	return kind, strings.Join(parts, "; ")
}

// asked is a requested waiver or other decision.
type asked struct{ finding, service, to, until string }

// decision names what a second person is asked for.
func decision(to, until string) string {
	if to == "waived" {
		return "the waiver until " + until
	}
	return "the decision that it is no leak"
}

// Asks reports whether the new standing asks a second person for something.
func (s *Standing) Asks(next *Standing) bool {
	return next.AskedTo != "" && (next.AskedTo != s.AskedTo || next.Asked != s.Asked)
}

// tellLeads notifies the people who can approve requested waivers, once each, however many findings there are.
func (c *Change) tellLeads(ctx context.Context, tx *sql.Tx, comment string) error {
	of := map[string][]asked{}
	for _, one := range c.asked {
		of[one.service] = append(of[one.service], one)
	}
	for service, all := range of {
		leads, err := leadsOf(ctx, tx, service)
		if err != nil {
			return err
		}
		text := decision(all[0].to, all[0].until) + " waits for approval: " + comment
		if len(all) > 1 {
			text = fmt.Sprintf("%s and %d more wait for approval: %s", decision(all[0].to, all[0].until), len(all)-1,
				comment)
		}
		for _, lead := range leads {
			for key := range c.told { // who follows it as well is told once
				if key.person == lead && key.kind == "waiver" {
					delete(c.told, key)
				}
			}
			n := Notice{PersonID: lead, At: c.At, Kind: "waiver", Author: c.Author, By: c.PersonID,
				FindingID: all[0].finding, Text: text}
			if err := n.add(ctx, tx); err != nil {
				return err
			}
		}
	}
	return nil
}

// leadsOf lists the people who can decide at a service.
func leadsOf(ctx context.Context, tx *sql.Tx, service string) ([]int64, error) {
	found, err := tx.QueryContext(ctx,
		`SELECT people.id FROM people LEFT JOIN service_roles ON person_id = people.id AND service_id = (SELECT id FROM services WHERE name = ?)
		WHERE active = 1 AND (people.role = 'administrator' OR coalesce(service_roles.role, people.role) = 'lead') ORDER BY people.id`, service)
	if err != nil {
		return nil, err
	}
	defer found.Close()
	var all []int64
	for found.Next() {
		var id int64
		if err := found.Scan(&id); err != nil {
			return nil, err
		}
		all = append(all, id)
	}
	return all, found.Err()
}

// events writes the history entries of a change. The comment goes with the first one.
func (c *Change) events(ctx context.Context, tx *sql.Tx, id string, was, next Standing, comment string) error {
	var all []Event
	if was.State != next.State || was.Until != next.Until {
		all = append(all, Event{Kind: "move", Was: was.State, Became: next.State, Until: next.Until})
	} else if was.AskedTo != next.AskedTo || was.Asked != next.Asked {
		e := Event{Kind: "waiver", Was: next.AskedTo, Became: "asked for", Until: next.Asked}
		if next.AskedTo == "" {
			e.Was, e.Became, e.Until = was.AskedTo, "declined", was.Asked
		}
		all = append(all, e)
	}
	if was.Doubt != "" && next.Doubt == "" && was.State == next.State {
		all = append(all, Event{Kind: "kept", Was: was.Doubt})
	}
	if was.assignee() != next.assignee() {
		all = append(all, Event{Kind: "assign", Was: was.assignee(), Became: next.assignee()})
	}
	if was.Due != next.Due {
		all = append(all, Event{Kind: "due", Was: was.Due, Became: next.Due})
	}
	if !slices.Equal(was.Labels, next.Labels) {
		all = append(all, Event{Kind: "label", Was: strings.Join(was.Labels, ", "), Became: strings.Join(next.Labels,
			", ")})
	}
	if len(all) == 0 && comment != "" {
		all = append(all, Event{Kind: "comment"})
	}
	for i, e := range all {
		if e.At, e.Author = c.At, c.Author; i == 0 {
			e.Comment = comment
		}
		if err := addEvent(ctx, tx, id, e); err != nil {
			return err
		}
	}
	return nil
}

// standings returns how findings stand, by their ids.
func standings(ctx context.Context, db querier, ids []string) (map[string]Standing, error) {
	text, err := json.Marshal(ids)
	if err != nil {
		return nil, err
	}
	type one struct {
		id string
		Standing
	}
	found, err := rows(ctx, db, func(r scanner) (one, error) {
		var o one
		return o, o.scan(r, &o.id)
	}, `SELECT findings.id, `+standingColumns+` FROM findings WHERE id IN (SELECT value FROM json_each(?))`,
		string(text))
	if err != nil {
		return nil, err
	}
	all := make(map[string]Standing, len(found))
	for _, o := range found {
		all[o.id] = o.Standing
	}
	return all, nil
}

func standing(ctx context.Context, tx *sql.Tx, id string) (Standing, error) {
	var was Standing
	return was, was.scan(tx.QueryRowContext(ctx, `SELECT `+standingColumns+` FROM findings WHERE id = ?`, id))
}

// standingColumns is the SELECT list of a standing.
const standingColumns = `state, until, person_id, coalesce((SELECT iif(name = '', email, name) FROM people WHERE people.id = person_id), ''), assigned_team, team, due, version,
		approver, asked_to, asked_until, asked_by, severity, doubt, (SELECT name FROM services WHERE services.id = service_id),
		coalesce((SELECT group_concat(label, char(10)) FROM (SELECT label FROM labels WHERE finding_id = findings.id ORDER BY label)), '')`

// scan reads a standing, behind what else a row begins with.
func (s *Standing) scan(r scanner, before ...any) error {
	var labels inLines
	err := r.Scan(append(before, &s.State, &s.Until, &s.PersonID, &s.person, &s.AssignedTeam, &s.team, &s.Due,
		&s.version,
		&s.Approver, &s.AskedTo, &s.Asked, &s.AskedBy, &s.Severity, &s.Doubt, &s.Service, &labels)...)
	s.Labels = labels
	return err
}

func (s *Standing) same(other *Standing) bool {
	return s.State == other.State && s.Until == other.Until && s.PersonID == other.PersonID &&
		s.AssignedTeam == other.AssignedTeam && s.Due == other.Due && s.AskedTo == other.AskedTo &&
		s.Asked == other.Asked && s.Doubt == other.Doubt && slices.Equal(s.Labels, other.Labels)
}

// write stores a finding's standing and returns its new version.
func (s *Standing) write(ctx context.Context, tx *sql.Tx, id string) (version int, err error) {
	if _, err := tx.ExecContext(ctx,
		`UPDATE findings SET granted_in = iif(state = ?1, granted_in, 0), state = ?1, until = ?2, person_id = ?3, assigned_team = ?4, due = ?5,
		approver = ?6, asked_until = ?7, asked_by = ?8, asked_to = ?9, waived_at = iif(?1 <> 'waived', -1, iif(state = 'waived' AND until = ?2, waived_at, severity)), doubt = ?11 WHERE id = ?10`,
		s.State, s.Until, s.PersonID, s.AssignedTeam, s.Due, s.Approver, s.Asked, s.AskedBy, s.AskedTo, id,
		s.Doubt); err != nil {
		return 0, err
	}
	if _, err := tx.ExecContext(ctx, `DELETE FROM labels WHERE finding_id = ?`, id); err != nil {
		return 0, err
	}
	for _, label := range s.Labels {
		if _, err := tx.ExecContext(ctx, `INSERT INTO labels VALUES (?, ?)`, label, id); err != nil {
			return 0, err
		}
	}
	if s.PersonID != 0 {
		if err := tx.QueryRowContext(ctx, `SELECT iif(name = '', email, name) FROM people WHERE id = ?`,
			s.PersonID).Scan(&s.person); err != nil {
			return 0, none(err)
		}
	}
	return version, tx.QueryRowContext(ctx, `SELECT version FROM findings WHERE id = ?`, id).Scan(&version)
}

// errTried rolls back a trial.
var errTried = errors.New("it was only a try")

// Undo reverts a change, except for findings that were changed again since. It returns [ErrNotFound] if the change
// is unknown or already undone. may returns why the caller may not change a service, or the empty string.
func (s *Findings) Undo(ctx context.Context, id int64, by Event, may func(service string) string,
	entry TrailEntry) (undone int, left []Refused, err error) {
	type was struct {
		finding string
		text    string
		version int
	}
	left = []Refused{}
	err = s.db.change(ctx, func(tx *sql.Tx) error {
		r, err := tx.ExecContext(ctx, `UPDATE changes SET undone = 1 WHERE id = ? AND undone = 0`, id)
		if err != nil {
			return err
		}
		if n, err := r.RowsAffected(); err != nil || n == 0 {
			return none(sql.ErrNoRows)
		}
		found, err := tx.QueryContext(ctx,
			`SELECT finding_id, was, version FROM changed WHERE change_id = ? ORDER BY finding_id`, id)
		if err != nil {
			return err
		}
		var all []was
		for found.Next() {
			var w was
			if err := found.Scan(&w.finding, &w.text, &w.version); err != nil {
				found.Close()
				return err
			}
			all = append(all, w)
		}
		if err := found.Err(); err != nil {
			return err
		}
		c := Change{ID: -id, At: by.At, Author: by.Author, PersonID: by.PersonID}
		for _, w := range all {
			now, err := standing(ctx, tx, w.finding)
			if err != nil {
				return err
			}
			if now.version != w.version {
				left = append(left, Refused{w.finding, "it was changed since"})
				continue
			}
			if why := may(now.Service); why != "" {
				left = append(left, Refused{w.finding, why})
				continue
			}
			before := Standing{team: now.team}
			if err := json.Unmarshal([]byte(w.text), &before); err != nil {
				return err
			}
			if why := before.decided(&now); why != "" {
				left = append(left, Refused{w.finding, why})
				continue
			}
			if _, err := before.write(ctx, tx, w.finding); err == ErrNotFound { // who had it is gone
				before.PersonID = 0
				if _, err := before.write(ctx, tx, w.finding); err != nil {
					return err
				}
			} else if err != nil {
				return err
			}
			if err := c.events(ctx, tx, w.finding, now, before, "undone"); err != nil {
				return err
			}
			if kind, text := whatChanged(&now, &before, ""); kind != "" {
				if err := c.tell(ctx, tx, w.finding, kind, "undone: "+text); err != nil {
					return err
				}
			}
			undone++
		}
		if err := c.tellAll(ctx, tx); err != nil {
			return err
		}
		return addTrail(ctx, tx, entry)
	})
	return undone, left, err
}

// decided returns why an undo must not restore a standing: it would restore a waiver, a decision, or a request that
// a second person decided on.
func (s *Standing) decided(now *Standing) string {
	switch {
	case (s.State == "waived" || s.State == "not-a-leak" || s.State == "closed") && (s.State != now.State ||
		s.Until != now.Until):
		return "it would be " + s.State + " again: undo brings no decision back"
	case s.AskedTo != "" && (s.AskedTo != now.AskedTo || s.Asked != now.Asked):
		return "it would be asked for again: undo brings no decision back"
	}
	return ""
}

// Changes lists the latest changes of several findings.
func (s *Findings) Changes(ctx context.Context, limit int) ([]Change, error) {
	return rows(ctx, s.db.read, func(r scanner) (Change, error) {
		var c Change
		var at int64
		err := r.Scan(&c.ID, &at, &c.PersonID, &c.Author, &c.Words, &c.Findings, &c.Undone)
		c.At = when(at)
		return c, err
	}, `SELECT id, at, person_id, author, words, findings, undone FROM changes ORDER BY id DESC LIMIT ?`, limit)
}

// FindingIDs lists the findings that match, at most limit of them.
func (s *Findings) FindingIDs(ctx context.Context, by FindingFilter, limit int) ([]string, error) {
	f := by.filter()
	return rows(ctx, s.db.read, func(r scanner) (id string, err error) { return id, r.Scan(&id) },
		`SELECT findings.id FROM findings`+f.sql()+` ORDER BY findings.id LIMIT ?`, append(f.args, limit)...)
}

// LabelCount is a label and the number of findings with it.
type LabelCount struct {
	Label    string // in lower case
	Findings int    // how many have it
}

// Labels lists the labels in use.
func (s *Findings) Labels(ctx context.Context) ([]LabelCount, error) {
	return rows(ctx, s.db.read, func(r scanner) (l LabelCount, err error) { return l, r.Scan(&l.Label, &l.Findings) },
		`SELECT label, count(*) FROM labels GROUP BY label ORDER BY label`)
}

// concerned lists the followers and the assignee of a finding.
func concerned(ctx context.Context, tx *sql.Tx, finding string) ([]int64, error) {
	return rows(ctx, tx, func(r scanner) (person int64, err error) { return person, r.Scan(&person) },
		`SELECT person_id FROM follows WHERE finding_id = ?1 UNION SELECT person_id FROM findings WHERE id = ?1 AND person_id <> 0`, finding)
}

// tell notifies a finding's followers and assignee, except those in skip.
func tell(ctx context.Context, tx *sql.Tx, finding string, n Notice, but ...int64) error {
	people, err := concerned(ctx, tx, finding)
	if err != nil {
		return err
	}
	for _, person := range people {
		if n.PersonID, n.FindingID = person, finding; slices.Contains(but, person) {
			continue
		}
		if err := n.add(ctx, tx); err != nil {
			return err
		}
	}
	return nil
}

func follow(ctx context.Context, tx *sql.Tx, finding string, people ...int64) error {
	for _, person := range people {
		if person == 0 {
			continue
		}
		if _, err := tx.ExecContext(ctx, `INSERT OR IGNORE INTO follows (person_id, finding_id) VALUES (?, ?)`, person,
			finding); err != nil {
			return err
		}
	}
	return nil
}

// Following is whether a person follows something.
type Following bool

const (
	Follows Following = true  // from now on
	Ignores Following = false // no longer
)

// Follow makes a person follow a finding, or stop following it.
func (s *Findings) Follow(ctx context.Context, person int64, finding string, on Following) error {
	return s.db.change(ctx, func(tx *sql.Tx) error {
		var found int
		if err := tx.QueryRowContext(ctx, `SELECT 1 FROM findings WHERE id = ?`, finding).Scan(&found); err != nil {
			return none(err)
		}
		if on {
			return follow(ctx, tx, finding, person)
		}
		_, err := tx.ExecContext(ctx, `DELETE FROM follows WHERE person_id = ? AND finding_id = ?`, person, finding)
		return err
	})
}

// Follows reports whether a person follows a finding.
func (s *Findings) Follows(ctx context.Context, person int64, finding string) (bool, error) {
	var n int
	err := s.db.read.QueryRowContext(ctx, `SELECT count(*) FROM follows WHERE person_id = ? AND finding_id = ?`, person,
		finding).Scan(&n)
	return n > 0, err
}

// View is a saved list of findings.
type View struct {
	ID       int64     // its number
	PersonID int64     // the number of the person, 0 for none
	Author   string    // who did it, by name
	Name     string    // what it is called
	Query    string    // of the console's address
	Shared   bool      // others see it too
	Created  time.Time // when it was made
	Follows  bool      // who asks is told of what comes into it
}

// Views lists a person's views and those that others share, by name.
func (s *Findings) Views(ctx context.Context, person int64) ([]View, error) {
	return rows(ctx, s.db.read, func(r scanner) (View, error) {
		var v View
		var at int64
		err := r.Scan(&v.ID, &v.PersonID, &v.Author, &v.Name, &v.Query, &v.Shared, &at, &v.Follows)
		v.Created = when(at)
		return v, err
	}, `SELECT views.id, person_id, iif(people.name = '', email, people.name), views.name, query, shared, views.created,
		EXISTS (SELECT 1 FROM view_follows WHERE view_id = views.id AND view_follows.person_id = ?1) FROM views JOIN people ON people.id = person_id
		WHERE person_id = ?1 OR shared = 1 ORDER BY views.name COLLATE NOCASE, views.id`, person)
}

// AddView saves a view.
func (s *Findings) AddView(ctx context.Context, v View, entry TrailEntry) (View, error) {
	err := s.db.change(ctx, func(tx *sql.Tx) error {
		r, err := tx.ExecContext(ctx,
			`INSERT INTO views (person_id, name, query, shared, created) VALUES (?, ?, ?, ?, ?)`,
			v.PersonID, v.Name, v.Query, v.Shared, millis(v.Created))
		if err != nil {
			return err
		}
		if v.ID, err = r.LastInsertId(); err != nil {
			return err
		}
		return addTrail(ctx, tx, entry)
	})
	return v, err
}

// DropView deletes one of a person's views, or returns [ErrNotFound].
func (s *Findings) DropView(ctx context.Context, id, person int64, entry TrailEntry) error {
	return s.db.one(ctx, entry, `DELETE FROM views WHERE id = ? AND person_id = ?`, id, person)
}
