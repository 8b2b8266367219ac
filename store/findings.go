package store

import (
	"context"
	"database/sql"
	"database/sql/driver"
	"errors"
	"fmt"
	"reflect"
	"strconv"
	"strings"
	"time"
	"unicode/utf8"

	"inkret/core/finding"
	"inkret/core/severity"
)

// Finding is a tracked finding.
type Finding struct {
	ID         string // the fingerprint
	Service    string // the service under review
	Kind       string // see package kind
	Severity   int    // greater is graver; see package severity
	Endpoint   string // as the contract writes it, or as it was seen
	EndpointID string // see [EndpointID]
	Team       string // of the endpoint
	Audience   string // by name
	Direction  string // request or response
	Status     string // the entry of the contract, or the code
	Path       string // a JSONPath (RFC 9535)
	finding.Facts
	Bytes     int64     // of bodies, their codings undone
	GrantFile string    // where the grant or response is written that decided
	GrantLine int       // from 1 on
	Prints    []uint64  // keyed hashes of values that it showed; not read back
	Excepted  string    // the reason of the exception that covers it; empty for none
	State     string    // see [finding.State]
	Until     string    // the last day, as YYYY-MM-DD in UTC; empty for none
	FirstSeen time.Time // the oldest capture that showed it
	LastSeen  time.Time // the newest capture that showed it
	Shown     time.Time // when the last capture that shows it was recorded
	Proven    time.Time // when the last capture of its proof was recorded; zero for none
	Doubt     string    // why its proof, made under earlier rules, does not hold; empty for no doubt

	PersonID     int64    // to whom it is assigned, 0 for nobody
	Person       string   // by name
	AssignedTeam string   // in place of Team
	Due          string   // the last day, UTC
	Version      int      // counted with each change
	Labels       []string // sorted

	Approver   string // of its waiver, by name
	AskedTo    string // the state that a second person is asked for: waived or not-a-leak
	AskedUntil string // the last day of a waiver that waits for approval
	AskedBy    string // by name
	AskedByID  int64  // 0 for nobody
}

// Event is something that happened to a finding.
type Event struct {
	At      time.Time // when it happened
	Author  string    // who did it, by name
	Kind    string    // found, move, comment, assign, due, label or waiver
	Was     string    // before
	Became  string    // from then on
	Comment string    // what was said with it
	Until   string    // the last day, as YYYY-MM-DD in UTC; empty for none
	BatchID int64     // 0 for none

	Revision  int   // of the contracts that brought it about
	CaptureID int64 // that proved it
	PersonID  int64 // of the author, where that is a person who is signed in; not read back
}

// findingField maps a field of a finding to SQL: the expression it is read from, and the variable it is stored in.
// found marks the fields that are set by the first batch.
type findingField struct {
	read  string // a column, or an expression
	at    func(f *Finding) any
	found bool
}

// findingFields lists the fields of findings. A new field needs a line here and a column in a migration.
var findingFields = []findingField{
	{"findings.id", func(f *Finding) any { return &f.ID }, true},
	{"services.name", func(f *Finding) any { return &f.Service }, false},
	{"kind", func(f *Finding) any { return &f.Kind }, true},
	{"severity", func(f *Finding) any { return &f.Severity }, true},
	{"endpoint", func(f *Finding) any { return &f.Endpoint }, true},
	{"endpoint_id", func(f *Finding) any { return &f.EndpointID }, true},
	{"team", func(f *Finding) any { return &f.Team }, true},
	{"audience", func(f *Finding) any { return &f.Audience }, true},
	{"audience_by", func(f *Finding) any { return &f.AudienceBy }, true},
	{"direction", func(f *Finding) any { return &f.Direction }, true},
	{"status", func(f *Finding) any { return &f.Status }, true},
	{"path", func(f *Finding) any { return &f.Path }, true},
	{"entity", func(f *Finding) any { return &f.Entity }, true},
	{"field", func(f *Finding) any { return &f.Field }, true},
	{"class", func(f *Finding) any { return &f.Class }, true},
	{"spots", func(f *Finding) any { return &f.Spots }, true},
	{"captures", func(f *Finding) any { return &f.Captures }, true},
	{"bytes", func(f *Finding) any { return &f.Bytes }, true},
	{"sample", func(f *Finding) any { return &f.Sample }, true},
	{"why", func(f *Finding) any { return &f.Why }, true},
	{"grant_file", func(f *Finding) any { return &f.GrantFile }, true},
	{"grant_line", func(f *Finding) any { return &f.GrantLine }, true},
	{"excepted", func(f *Finding) any { return &f.Excepted }, true},
	{"due", func(f *Finding) any { return &f.Due }, true},
	{"first_seen", func(f *Finding) any { return (*inMillis)(&f.FirstSeen) }, true},
	{"last_seen", func(f *Finding) any { return (*inMillis)(&f.LastSeen) }, true},
	{"shown", func(f *Finding) any { return (*inMillis)(&f.Shown) }, true},
	{"proven", func(f *Finding) any { return (*inMillis)(&f.Proven) }, false},
	{"doubt", func(f *Finding) any { return &f.Doubt }, false},
	{"state", func(f *Finding) any { return &f.State }, false},
	{"until", func(f *Finding) any { return &f.Until }, false},
	{"findings.person_id", func(f *Finding) any { return &f.PersonID }, false},
	{"coalesce((SELECT iif(name = '', email, name) FROM people WHERE people.id = findings.person_id), '')",
		func(f *Finding) any { return &f.Person }, false},
	{"assigned_team", func(f *Finding) any { return &f.AssignedTeam }, false},
	{"version", func(f *Finding) any { return &f.Version }, false},
	{"coalesce((SELECT group_concat(label, char(10)) FROM labels WHERE finding_id = findings.id), '')",
		func(f *Finding) any { return (*inLines)(&f.Labels) }, false},
	{"approver", func(f *Finding) any { return &f.Approver }, false},
	{"asked_to", func(f *Finding) any { return &f.AskedTo }, false},
	{"asked_until", func(f *Finding) any { return &f.AskedUntil }, false},
	{"asked_by", func(f *Finding) any { return &f.AskedByID }, false},
	{"iif(asked_by = 0, '', coalesce((SELECT iif(name = '', email, name) FROM people WHERE people.id = asked_by), ''))",
		func(f *Finding) any { return &f.AskedBy }, false},
}

// findingColumns is the SELECT list of findings.
var findingColumns = func() string {
	var all []string
	for _, field := range findingFields {
		all = append(all, field.read)
	}
	return strings.Join(all, ", ")
}()

const findingTables = ` FROM findings JOIN services ON services.id = service_id`

func scanFinding(r scanner) (Finding, error) {
	var f Finding
	into := make([]any, len(findingFields))
	for i, field := range findingFields {
		into[i] = field.at(&f)
	}
	return f, r.Scan(into...)
}

// inMillis is a time stored as milliseconds since 1970; 0 = none.
type inMillis time.Time

// Scan implements [sql.Scanner].
func (t *inMillis) Scan(from any) error {
	ms, ok := from.(int64)
	if !ok {
		return fmt.Errorf("a time is kept as %T", from)
	}
	*t = inMillis(when(ms))
	return nil
}

// Value implements [driver.Valuer].
func (t inMillis) Value() (driver.Value, error) { return millis(time.Time(t)), nil }

// inLines is a list of texts stored as lines.
type inLines []string

// Scan implements [sql.Scanner].
func (l *inLines) Scan(from any) error {
	text, ok := from.(string)
	if !ok {
		return fmt.Errorf("lines are kept as %T", from)
	}
	*l = strings.FieldsFunc(text, func(r rune) bool { return r == '\n' })
	return nil
}

// seenAgain does what a state or a greater severity asks for where a known finding is seen again: one that was closed,
// or whose waiver does not hold any more, returns. Its counts are changed already.
func (m *merging) seenAgain(ctx context.Context, f *Finding, was known) (err error) {
	tx, b := m.tx, m.batch
	if f.Severity > was.level {
		// a higher severity brings the due date forward, never back
		f.Due = m.due.after(f.Severity, b.Started)
		if _, err = tx.ExecContext(ctx,
			`UPDATE findings SET severity = ?1, entity = ?2, field = ?3, class = ?4, sample = ?5, why = ?6, due = iif(?7 <> '' AND (due = '' OR due > ?7), ?7, due) WHERE id = ?8`,
			f.Severity, f.Entity, f.Field, f.Class, f.Sample, f.Why, f.Due, f.ID); err != nil {
			return err
		}
		e := Event{At: b.Started, Author: b.Author, Kind: "severity", Was: severity.Severity(was.level).String(),
			Became: severity.Severity(f.Severity).String(), BatchID: b.ID}
		if err = addEvent(ctx, tx, f.ID, e); err != nil {
			return err
		}
	}
	// what is no longer permitted is a leak again; a waiver holds only for the severity it was given for
	graver := was.state == "waived" && f.Severity > was.waiving && was.waiving >= 0
	back := was.state == "closed" && finding.Returns(when(was.proven), f.Shown)
	if was.state == "closed" && !back {
		return sawEarlier(ctx, tx, b, f)
	}
	if !back && !(was.state == "not-a-leak" && was.granted > 0) && !graver && !(was.state == "waived" &&
		was.until < b.Started.UTC().Format(time.DateOnly)) {
		return nil
	}
	f.Due = m.due.after(max(was.level, f.Severity), b.Started)
	if _, err = tx.ExecContext(ctx, `UPDATE findings SET state = 'returned', `+decidedNoMore+
		`, due = ?, granted_in = 0 WHERE id = ?`, f.Due, f.ID); err != nil {
		return err
	}
	e := Event{At: b.Started, Author: b.Author, Kind: "move", Was: was.state, Became: "returned", BatchID: b.ID}
	switch {
	case graver:
		e.Comment = "it is more severe than what was waived"
	case was.state == "waived":
		e.Comment = "the waiver's last day was " + was.until
	}
	if err = addEvent(ctx, tx, f.ID, e); err != nil {
		return err
	}
	text := "seen again in " + b.Name
	if b.ID == 0 {
		text = b.Name
	}
	return tell(ctx, tx, f.ID, Notice{At: b.Started, Kind: "returned", Author: b.Author, By: b.By, Text: text})
}

// sawEarlier notes in a finding's history, once a batch, that captures show it which were recorded before its proof.
func sawEarlier(ctx context.Context, tx *sql.Tx, b Batch, f *Finding) error {
	var noted bool
	if err := tx.QueryRowContext(ctx,
		`SELECT EXISTS (SELECT 1 FROM events WHERE finding_id = ? AND kind = 'earlier' AND batch_id = ?)`, f.ID,
		b.ID).Scan(&noted); err != nil || noted {
		return err
	}
	return addEvent(ctx, tx, f.ID, Event{At: b.Started, Author: b.Author, Kind: "earlier", BatchID: b.ID,
		Comment: "recorded at " + f.Shown.UTC().Format(time.RFC3339) + ", before the proof"})
}

// decidedNoMore is the SQL that clears a waiver and a requested one.
const decidedNoMore = `until = '', approver = '', asked_until = '', asked_by = 0, asked_to = '', waived_at = -1`

// EndWaivers ends the waivers whose last day is before today: their findings return. Requested waivers up to such a
// day are declined. It returns how many findings returned.
func (s *Findings) EndWaivers(ctx context.Context, today string, at time.Time) (ended int, err error) {
	const author = "the calendar"
	over, err := rows(ctx, s.db.read, func(r scanner) (Finding, error) {
		var f Finding
		return f, r.Scan(&f.ID, &f.Severity, &f.Until, &f.AskedUntil)
	}, `SELECT id, severity, iif(state = 'waived', until, ''), asked_until FROM findings WHERE state = 'waived' AND until < ?1 AND until <> ''
		UNION SELECT id, severity, '', asked_until FROM findings WHERE asked_until < ?1 AND asked_until <> '' AND NOT (state = 'waived' AND until < ?1)`, today)
	if err != nil || len(over) == 0 { // mostly: then nobody who writes is held up
		return 0, err
	}
	err = s.db.change(ctx, func(tx *sql.Tx) error {
		for _, f := range over {
			if f.Until == "" {
				r, err := tx.ExecContext(ctx,
					`UPDATE findings SET asked_until = '', asked_by = 0, asked_to = '' WHERE id = ? AND asked_until = ?`, f.ID, f.AskedUntil)
				if err != nil {
					return err
				}
				if n, _ := r.RowsAffected(); n == 0 { // it was decided meanwhile
					continue
				}
				if err := addEvent(ctx, tx, f.ID, Event{At: at, Author: author, Kind: "waiver",
					Became: "not approved in time", Until: f.AskedUntil}); err != nil {
					return err
				}
				continue
			}
			due, err := dueDay(ctx, tx, f.Severity, at)
			if err != nil {
				return err
			}
			r, err := tx.ExecContext(ctx, `UPDATE findings SET state = 'returned', `+decidedNoMore+
				`, due = ? WHERE id = ? AND state = 'waived' AND until = ?`, due, f.ID, f.Until)
			if err != nil {
				return err
			}
			if n, _ := r.RowsAffected(); n == 0 { // it was made longer, or moved, meanwhile
				continue
			}
			ended++
			e := Event{At: at, Author: author, Kind: "move", Was: "waived", Became: "returned",
				Comment: "the waiver's last day was " + f.Until}
			if err := addEvent(ctx, tx, f.ID, e); err != nil {
				return err
			}
			if err := tell(ctx, tx, f.ID, Notice{At: at, Kind: "returned", Author: author,
				Text: e.Comment}); err != nil {
				return err
			}
		}
		return nil
	})
	return ended, err
}

// DueDays is the setting with the days until a finding is due, by severity from 0: a JSON list of numbers, 0 = no
// due date.
const DueDays = "due-days"

// dueDay returns the due date of a finding that was seen at a time.
func dueDay(ctx context.Context, tx *sql.Tx, severity int, seen time.Time) (string, error) {
	days, err := readDueDays(ctx, tx)
	return days.after(severity, seen), err
}

func addEvent(ctx context.Context, tx *sql.Tx, finding string, e Event) error {
	_, err := tx.ExecContext(ctx,
		`INSERT INTO events (finding_id, at, author, kind, was, became, comment, until, batch_id, revision, capture_id) VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)`,
		finding, millis(e.At), e.Author, e.Kind, e.Was, e.Became, e.Comment, e.Until, e.BatchID, e.Revision,
		e.CaptureID)
	return err
}

// FindingFilter narrows a list of findings. Empty parts match all.
type FindingFilter struct {
	States     []string // empty for all
	Severities []int    // empty for all
	Kinds      []string // empty for all
	Audience   string   // by name
	Endpoint   string   // id
	Team       string   // whose it is; empty for nobody
	Entity     string   // by name
	Field      string   // by name
	Batch      int64    // only those that it shows; 0 for all
	Person     int64    // assigned to; -1 for nobody and no team
	Left       bool     // assigned to somebody who is kept out
	Assigned   string   // the team that has it: assigned, or the endpoint's where nobody is
	Label      string   // in lower case
	DueBefore  string   // a day: due before it
	Asked      bool     // a waiver waits for approval
	Doubted    bool     // closed, and its proof no longer counts
	Since      int64    // came or came back after this event
	Places     []string // in the contracts, as FILE:LINE, that decided
	Value      string   // the print of a value that leaked
	Service    string   // the service under review
	Words      string   // what is looked for
	Sort       string   // a column of the list; with - before it, turned round
}

func (by *FindingFilter) filter() filter {
	var f filter
	state := "state"
	if len(by.States) > 1 { // most findings are in one of them: it is the order that an index is wanted for
		state = "+state"
	}
	f.in(state, by.States)
	if by.Doubted {
		f.and("doubt <> ''")
	}
	f.in("kind", by.Kinds)
	if len(by.Severities) > 0 {
		least, severity := filter{}, "severity"
		if name, _ := strings.CutPrefix(by.Sort, "-"); name != "" && name != "severity" { // as with states
			severity = "+severity"
		}
		for _, s := range by.Severities {
			least.and(severity+" = ?", s)
		}
		condition := "(" + least.where[0]
		for _, c := range least.where[1:] {
			condition += " OR " + c
		}
		f.and(condition+")", least.args...)
	}
	for column, value := range map[string]string{"audience": by.Audience, "endpoint_id": by.Endpoint, "team": by.Team,
		"entity": by.Entity, "field": by.Field} {
		if value != "" {
			f.and(column+" = ?", value)
		}
	}
	if by.Batch != 0 {
		f.and(`findings.id IN (SELECT finding_id FROM occurrences JOIN captures ON captures.id = capture_id WHERE batch_id = ?)`, by.Batch)
	}
	if by.Left {
		f.and("findings.person_id IN (SELECT id FROM people WHERE active = 0)")
	}
	switch {
	case by.Person > 0:
		f.and("findings.person_id = ?", by.Person)
	case by.Person < 0:
		f.and("findings.person_id = 0 AND assigned_team = '' AND team = ''")
	}
	if by.Assigned != "" {
		f.and("iif(assigned_team = '', team, assigned_team) = ?", by.Assigned)
	}
	if by.Label != "" {
		f.and("findings.id IN (SELECT finding_id FROM labels WHERE label = ?)", by.Label)
	}
	if by.DueBefore != "" {
		if by.Person > 0 { // of one person there are few
			f.and("+due <> '' AND +due < ?", by.DueBefore)
		} else {
			f.and("due <> '' AND due < ?", by.DueBefore)
		}
	}
	f.in("grant_file || ':' || grant_line", by.Places)
	if by.Value != "" {
		f.and("findings.id IN (SELECT finding_id FROM prints WHERE print = CAST(? AS INTEGER))", by.Value)
	}
	if by.Since > 0 {
		f.and("findings.id IN (SELECT finding_id FROM events WHERE events.id > ? AND (events.kind = 'found' OR "+
			"became = 'returned'))", by.Since)
	}
	if by.Asked { // there are few, whatever order they are wanted in
		f.and("findings.id IN (SELECT id FROM findings INDEXED BY findings_asked WHERE asked_to <> '')")
	}
	if by.Service != "" {
		f.and("findings.service_id = (SELECT id FROM services WHERE name = ?)", by.Service)
	}
	f.phrases(by.Words)
	return f
}

// phrases adds a condition that each word occurs in endpoint, path, entity or field. Words of three characters and
// more use the trigram index first; the text is checked again, because the index only says that the trigrams occur.
func (f *filter) phrases(text string) {
	const shortest = 3
	for _, w := range strings.Fields(text) {
		if utf8.RuneCountInString(w) >= shortest {
			f.and(`findings.rowid IN (SELECT rowid FROM finding_words WHERE finding_words MATCH ?)`, trigrams(w))
		}
		f.words(w, "endpoint", "path", "entity", "field")
	}
}

// trigrams matches all trigrams of a word (FTS5 with detail=none has no phrases).
func trigrams(w string) string {
	runes := []rune(w)
	var all []string
	for i := 0; i+3 <= len(runes); i++ {
		all = append(all, `"`+strings.ReplaceAll(string(runes[i:i+3]), `"`, `""`)+`"`)
	}
	return strings.Join(all, " AND ")
}

// natural lists the sort keys whose usual order is descending. The index has that order, and the reversed list is
// its exact reverse, so that one index serves both.
var natural = map[string]bool{"severity": true, "spots": true, "bytes": true, "last_seen": true}

func findingsSorted(by string) string {
	name, falling := strings.CutPrefix(by, "-")
	column, ok := findingOrder[name]
	if !ok {
		name, column, falling = "severity", "severity", true
	}
	direction, seen, id := "", " DESC", ""
	if falling {
		direction = " DESC"
	}
	if falling != natural[name] {
		seen, id = "", " DESC"
	}
	sorted := column + direction
	if name != "last_seen" {
		sorted += ", last_seen" + seen
	}
	return sorted + ", findings.id" + id
}

var findingOrder = map[string]string{"severity": "severity", "kind": "kind", "endpoint": "endpoint", "path": "path",
	"state": "state", "spots": "spots",
	"bytes": "findings.bytes", "due": "iif(due = '', '9999', due)", "first_seen": "first_seen",
	"last_seen": "last_seen"}

// Findings returns a page of findings, and the number of all matches by severity.
func (s *Findings) Findings(ctx context.Context, by FindingFilter, page Page) ([]Finding, map[int]int, error) {
	f := by.filter()
	type counted struct {
		by  map[int]int
		err error
	}
	counting := make(chan counted, 1)
	go func() { // beside the page itself
		var c counted
		if few, ok := by.counted(); ok {
			c.by, c.err = s.countBy(ctx, `SELECT severity, sum(n) FROM finding_counts`+few.sql()+
				` GROUP BY severity HAVING sum(n) > 0`, few.args...)
		} else {
			c.by, c.err = s.countBy(ctx, `SELECT severity, count(*) FROM findings`+f.sql()+` GROUP BY severity`,
				f.args...)
		}
		counting <- c
	}()
	all, err := rows(ctx, s.db.read, scanFinding, `SELECT `+findingColumns+findingTables+f.sql()+
		` ORDER BY `+findingsSorted(by.Sort)+page.sql(), f.args...)
	c := <-counting
	return all, c.by, errors.Join(err, c.err)
}

// counted returns the filter on the stored counts, if they can answer it.
func (by *FindingFilter) counted() (filter, bool) {
	plain := *by
	plain.States, plain.Kinds, plain.Severities, plain.Service, plain.Endpoint, plain.Sort = nil, nil, nil, "", "", ""
	if !reflect.DeepEqual(plain, FindingFilter{}) {
		return filter{}, false
	}
	var f filter
	f.in("state", by.States)
	f.in("kind", by.Kinds)
	if len(by.Severities) > 0 {
		values := make([]string, len(by.Severities))
		for i, s := range by.Severities {
			values[i] = strconv.Itoa(s)
		}
		f.in("CAST(severity AS TEXT)", values)
	}
	if by.Service != "" {
		f.and("service_id = (SELECT id FROM services WHERE name = ?)", by.Service)
	}
	if by.Endpoint != "" {
		f.and("endpoint_id = ?", by.Endpoint)
	}
	return f, true
}

func (s *Findings) countBy(ctx context.Context, query string, args ...any) (map[int]int, error) {
	counts := map[int]int{}
	pairs, err := rows(ctx, s.db.read, func(r scanner) ([2]int, error) {
		var p [2]int
		return p, r.Scan(&p[0], &p[1])
	}, query, args...)
	for _, p := range pairs {
		counts[p[0]] = p[1]
	}
	return counts, err
}

// StateCounts counts findings by state.
func (s *Findings) StateCounts(ctx context.Context) (map[string]int, error) {
	counts := map[string]int{}
	type pair struct {
		state string
		n     int
	}
	pairs, err := rows(ctx, s.db.read, func(r scanner) (pair, error) {
		var p pair
		return p, r.Scan(&p.state, &p.n)
	}, `SELECT state, sum(n) FROM finding_counts GROUP BY state HAVING sum(n) > 0`)
	for _, p := range pairs {
		counts[p.state] = p.n
	}
	return counts, err
}

// WaiversEnding counts the waivers that end on a day or before.
func (s *Findings) WaiversEnding(ctx context.Context, day string) (n int, err error) {
	err = s.db.read.QueryRowContext(ctx, `SELECT count(*) FROM findings WHERE state = 'waived' AND until <= ?`,
		day).Scan(&n)
	return n, err
}

// Finding returns one finding, or [ErrNotFound].
//
// It also finds a finding by an id that it had before its endpoint was renamed.
func (s *Findings) Finding(ctx context.Context, id string) (Finding, error) {
	var is = `SELECT ` + findingColumns + findingTables + ` WHERE findings.id = `
	f, err := scanFinding(s.db.read.QueryRowContext(ctx, is+`?`, id))
	if errors.Is(err, sql.ErrNoRows) {
		f, err = scanFinding(s.db.read.QueryRowContext(ctx, is+`(SELECT id FROM renamed WHERE was = ?)`, id))
	}
	return f, none(err)
}

// DueOf lists a person's open findings that are due up to a day, by date and severity.
func (s *Findings) DueOf(ctx context.Context, person int64, upTo string, limit int) ([]Finding, error) {
	return rows(ctx, s.db.read, scanFinding, `SELECT `+findingColumns+findingTables+
		` WHERE findings.person_id = ? AND due <> '' AND due <= ? AND state IN `+openStates+`
		ORDER BY due, severity DESC, findings.id LIMIT ?`, person, upTo, limit)
}

// Events lists a finding's history, oldest first.
func (s *Findings) Events(ctx context.Context, finding string) ([]Event, error) {
	return rows(ctx, s.db.read, func(r scanner) (Event, error) {
		var e Event
		var at int64
		err := r.Scan(&at, &e.Author, &e.Kind, &e.Was, &e.Became, &e.Comment, &e.Until, &e.BatchID, &e.Revision,
			&e.CaptureID)
		e.At = when(at)
		return e, err
	}, `SELECT at, author, kind, was, became, comment, until, batch_id, revision, capture_id FROM events WHERE finding_id = ? ORDER BY id`, finding)
}

// Elsewhere lists other findings of the same entity field, open ones first.
func (s *Findings) Elsewhere(ctx context.Context, f Finding, limit int) ([]Finding, error) {
	if f.Field == "" {
		return []Finding{}, nil
	}
	return rows(ctx, s.db.read, scanFinding, `SELECT `+findingColumns+findingTables+
		` WHERE services.name = ? AND entity = ? AND field = ? AND findings.id <> ?
		ORDER BY state IN `+openStates+` DESC, severity DESC, endpoint LIMIT ?`, f.Service, f.Entity, f.Field, f.ID,
		limit)
}

// Awaiting lists the findings of a service that await proof.
func (s *Findings) Awaiting(ctx context.Context, service string) ([]Finding, error) {
	return rows(ctx, s.db.read, func(r scanner) (Finding, error) {
		var f Finding
		return f, r.Scan(&f.ID, &f.Endpoint, &f.Audience, &f.Direction, &f.Status, &f.Path, &f.Kind)
	}, `SELECT id, endpoint, audience, direction, status, path, kind FROM findings WHERE state = 'awaiting-proof' AND service_id = (SELECT id FROM services WHERE name = ?)`,
		service)
}

// SameValue lists other findings that leaked a value which f leaked too, those with the most values in common
// first.
func (s *Findings) SameValue(ctx context.Context, f Finding, limit int) ([]Finding, error) {
	return rows(ctx, s.db.read, scanFinding, `SELECT `+findingColumns+findingTables+`
		JOIN (SELECT other.finding_id AS id, count(DISTINCT other.print) AS shared FROM prints mine JOIN prints other ON other.print = mine.print
			WHERE mine.finding_id = ?1 AND other.finding_id <> ?1 GROUP BY other.finding_id) same ON same.id = findings.id
		ORDER BY shared DESC, severity DESC, endpoint, findings.id LIMIT ?2`, f.ID, limit)
}

// Comment adds a comment to a finding. It notifies the mentioned people and the followers, and makes the author a
// follower.
func (s *Findings) Comment(ctx context.Context, id string, e Event, mentioned []int64, entry TrailEntry) error {
	return s.db.change(ctx, func(tx *sql.Tx) error {
		var found int
		if err := tx.QueryRowContext(ctx, `SELECT 1 FROM findings WHERE id = ?`, id).Scan(&found); err != nil {
			return none(err)
		}
		if err := addEvent(ctx, tx, id, e); err != nil {
			return err
		}
		if err := tell(ctx, tx, id, Notice{At: e.At, Kind: "comment", Author: e.Author, By: e.PersonID,
			Text: e.Comment}, mentioned...); err != nil {
			return err
		}
		for _, person := range mentioned {
			n := Notice{PersonID: person, At: e.At, Kind: "mentioned", Author: e.Author, By: e.PersonID, FindingID: id,
				Text: e.Comment}
			if err := n.add(ctx, tx); err != nil {
				return err
			}
		}
		if err := addTrail(ctx, tx, entry); err != nil {
			return err
		}
		return follow(ctx, tx, id, append(mentioned, e.PersonID)...)
	})
}
