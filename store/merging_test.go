package store

import (
	"context"
	"database/sql"
	"fmt"
	"math/rand/v2"
	"reflect"
	"strings"
	"testing"
	"time"

	"inkret/core/finding"
	"inkret/core/severity"
)

// TestSetsAreMergedAsOneByOne merges random batches as sets, and one finding after the other as the rules are written
// down here: the same rows come of it.
func TestSetsAreMergedAsOneByOne(t *testing.T) {
	told := ""
	for seed := range uint64(5) {
		var dumps [2]string
		for i, merge := range []func(context.Context, *sql.Tx, int64, Batch, []Finding) (int, error){mergeFindings,
			func(ctx context.Context, tx *sql.Tx, service int64, b Batch, all []Finding) (fresh int, err error) {
				for i := range all {
					is, err := mergeOneByOne(ctx, tx, service, b, &all[i])
					if err != nil {
						return fresh, err
					}
					if is {
						fresh++
					}
				}
				return fresh, nil
			}} {
			s, in := begun(t, t.TempDir())
			if _, err := s.People.AddPerson(t.Context(), Person{Name: "Noor", Email: "noor@quay.example",
				Role: "reviewer"}, time.Unix(0, 0),
				TrailEntry{}); err != nil {
				t.Fatal(err)
			}
			r := rand.New(rand.NewPCG(seed, 20))
			if seed%3 > 0 {
				if _, err := s.write.Exec(`INSERT INTO settings VALUES (?, '[0,0,90,30,14,3]')`, DueDays); err != nil {
					t.Fatal(err)
				}
			}
			var out strings.Builder
			at := time.Date(2026, 5, 1, 10, 0, 0, 0, time.UTC)
			for n := range 12 {
				at = at.Add(time.Duration(r.IntN(72)) * time.Hour)
				all := someFindings(r, at)
				if err := s.change(t.Context(), func(tx *sql.Tx) error {
					fresh, err := merge(t.Context(), tx, in.service, Batch{ID: int64(n + 1), Name: fmt.Sprint("batch ",
						n), Author: "Ada",
						Service: "quay", Started: at}, all)
					fmt.Fprintln(&out, "fresh", fresh)
					return err
				}); err != nil {
					t.Fatal(err)
				}
				people(t, s, r, at)
			}
			dumps[i] = out.String() + dumped(t, s)
		}
		if dumps[0] != dumps[1] {
			t.Fatalf("seed %d: as sets\n%s\none by one\n%s", seed, dumps[0], dumps[1])
		}
		told += dumps[0]
	}
	for _, kind := range []string{"|returned|", "|earlier|", "|severity|", "the waiver's last day",
		"more severe than what was waived"} {
		if !strings.Contains(told, kind) {
			t.Errorf("nothing of %s came of it: the test tells little", kind)
		}
	}
}

// someFindings makes up what a batch shows.
func someFindings(r *rand.Rand, at time.Time) (all []Finding) {
	for _, n := range r.Perm(400)[:r.IntN(300)] {
		level := 1 + (n+r.IntN(2))%5
		all = append(all, Finding{ID: fmt.Sprintf("%016x", n*2654435761), Service: "quay", Kind: "unexpected-field",
			Severity: level,
			Endpoint: fmt.Sprint("GET /", n%7), EndpointID: fmt.Sprint(n % 7), Team: fmt.Sprint("team", r.IntN(2)),
			Audience:  "visitor",
			Direction: "response", Status: "200", Path: fmt.Sprint("$.", n),
			Facts: finding.Facts{AudienceBy: "said", Entity: "E", Field: fmt.Sprint("f", level), Class: "internal",
				Spots: 1 + r.IntN(3), Captures: 1, Sample: fmt.Sprint("s", level), Why: "w"},
			Bytes: int64(r.IntN(90)),
			Shown: at.Add(-time.Duration(r.IntN(200)) * time.Hour)})
	}
	return all
}

// people moves some findings, as people do.
func people(t *testing.T, s *Store, r *rand.Rand, at time.Time) {
	t.Helper()
	for _, change := range []string{
		`UPDATE findings SET state = 'closed', proven = ?1 WHERE unicode(substr(id, -1)) %% 5 = %d AND state IN ('new', 'returned')`,
		`UPDATE findings SET state = 'waived', until = date(?1 / 1000, 'unixepoch'), waived_at = severity WHERE unicode(substr(id, -2)) %% 7 = %d`,
		`UPDATE findings SET state = 'not-a-leak', granted_in = ?1 %% 3 WHERE unicode(substr(id, -3)) %% 11 = %d`,
		`INSERT INTO follows SELECT DISTINCT 1, id FROM findings WHERE unicode(substr(id, -4)) %% 9 = %d ON CONFLICT DO NOTHING`,
	} {
		if _, err := s.write.Exec(fmt.Sprintf(change, r.IntN(11)), millis(at)); err != nil {
			t.Fatal(err)
		}
	}
}

// dumped writes what the merges left, without the order in which rows were added.
func dumped(t *testing.T, s *Store) string {
	t.Helper()
	var out strings.Builder
	for _, query := range []string{`SELECT * FROM findings ORDER BY id`, `SELECT * FROM finding_counts WHERE n > 0`,
		`SELECT finding_id, at, author, kind, was, became, comment, until, batch_id FROM events ORDER BY 1, 9, 4, 5, 6, 7`,
		`SELECT person_id, at, kind, author, finding_id, text FROM notices ORDER BY 1, 2, 5, 3`,
		`SELECT rowid IN (SELECT rowid FROM findings) FROM finding_words('GET') ORDER BY 1`} {
		found, err := s.read.Query(query)
		if err != nil {
			t.Fatal(query, err)
		}
		names, _ := found.Columns()
		for found.Next() {
			row := make([]any, len(names))
			for i := range row {
				row[i] = new(any)
			}
			if err := found.Scan(row...); err != nil {
				t.Fatal(err)
			}
			for i := range row {
				if names[i] != "nr" { // in which order they were added
					fmt.Fprint(&out, *row[i].(*any), "|")
				}
			}
			out.WriteString("\n")
		}
		if err := found.Err(); err != nil {
			t.Fatal(err)
		}
		found.Close()
	}
	return out.String()
}

// insertOne inserts a finding.
func insertOne(ctx context.Context, tx *sql.Tx, service int64, f *Finding) error {
	values := []any{service}
	for _, field := range findingFields {
		if field.found {
			values = append(values, reflect.ValueOf(field.at(f)).Elem().Interface())
		}
	}
	_, err := tx.ExecContext(ctx, `INSERT INTO findings (state, until, service_id, `+strings.Join(staged, ", ")+
		`) VALUES ('new', ''`+strings.Repeat(", ?", len(values))+`)`, values...)
	return err
}

// mergeOneByOne merges what a batch showed of a finding. A finding that was closed, or whose waiver expired,
// returns. fresh reports whether it is new.
func mergeOneByOne(ctx context.Context, tx *sql.Tx, service int64, b Batch, f *Finding) (fresh bool, err error) {
	at := millis(b.Started)
	var state, until string
	var level, grantedIn, waivedAt int
	var proven int64
	err = tx.QueryRowContext(ctx,
		`SELECT state, until, severity, granted_in, waived_at, proven FROM findings WHERE id = ?`,
		f.ID).Scan(&state, &until, &level, &grantedIn, &waivedAt, &proven)
	if err == sql.ErrNoRows {
		if f.Due, err = dueDay(ctx, tx, f.Severity, b.Started); err != nil {
			return false, err
		}
		f.FirstSeen, f.LastSeen = b.Started, b.Started
		err = insertOne(ctx, tx, service, f)
		if err != nil {
			return false, err
		}
		return true, addEvent(ctx, tx, f.ID, Event{At: b.Started, Author: b.Author, Kind: "found", Became: "new",
			BatchID: b.ID})
	}
	if err != nil {
		return false, err
	}
	if _, err = tx.ExecContext(ctx,
		`UPDATE findings SET spots = spots + ?, captures = captures + ?, bytes = bytes + ?, last_seen = max(last_seen, ?), shown = max(shown, ?),
		grant_file = ?, grant_line = ?, excepted = ?, team = ? WHERE id = ?`,
		f.Spots, f.Captures, f.Bytes, at, millis(f.Shown), f.GrantFile, f.GrantLine, f.Excepted, f.Team,
		f.ID); err != nil {
		return false, err
	}
	if f.Severity > level {
		// a higher severity brings the due date forward, never back
		if f.Due, err = dueDay(ctx, tx, f.Severity, b.Started); err != nil {
			return false, err
		}
		if _, err = tx.ExecContext(ctx,
			`UPDATE findings SET severity = ?1, entity = ?2, field = ?3, class = ?4, sample = ?5, why = ?6, due = iif(?7 <> '' AND (due = '' OR due > ?7), ?7, due) WHERE id = ?8`,
			f.Severity, f.Entity, f.Field, f.Class, f.Sample, f.Why, f.Due, f.ID); err != nil {
			return false, err
		}
		e := Event{At: b.Started, Author: b.Author, Kind: "severity", Was: severity.Severity(level).String(),
			Became: severity.Severity(f.Severity).String(), BatchID: b.ID}
		if err = addEvent(ctx, tx, f.ID, e); err != nil {
			return false, err
		}
	}
	// what is no longer permitted is a leak again; a waiver holds only for the severity it was given for
	graver := state == "waived" && f.Severity > waivedAt && waivedAt >= 0
	back := state == "closed" && finding.Returns(when(proven), f.Shown)
	if state == "closed" && !back {
		return false, sawEarlier(ctx, tx, b, f)
	}
	if back || state == "not-a-leak" && grantedIn > 0 || graver || state == "waived" &&
		until < b.Started.UTC().Format(time.DateOnly) {
		if f.Due, err = dueDay(ctx, tx, max(level, f.Severity), b.Started); err != nil {
			return false, err
		}
		if _, err = tx.ExecContext(ctx, `UPDATE findings SET state = 'returned', `+decidedNoMore+
			`, due = ?, granted_in = 0 WHERE id = ?`, f.Due, f.ID); err != nil {
			return false, err
		}
		e := Event{At: b.Started, Author: b.Author, Kind: "move", Was: state, Became: "returned", BatchID: b.ID}
		switch {
		case graver:
			e.Comment = "it is more severe than what was waived"
		case state == "waived":
			e.Comment = "the waiver's last day was " + until
		}
		if err = addEvent(ctx, tx, f.ID, e); err == nil {
			text := "seen again in " + b.Name
			if b.ID == 0 {
				text = b.Name
			}
			err = tell(ctx, tx, f.ID, Notice{At: b.Started, Kind: "returned", Author: b.Author, By: b.By, Text: text})
		}
	}
	return false, err
}

// TestWordsStayWithTheirFindings deletes findings and lets the database be written anew, and brings one of an earlier
// version up to date: the index of words still belongs to the findings, and all that refers to them does.
func TestWordsStayWithTheirFindings(t *testing.T) {
	whole := func(s *Store, when string) {
		t.Helper()
		if _, err := s.write.Exec(`INSERT INTO finding_words (finding_words, rank) VALUES ('integrity-check', 1)`); err != nil {
			t.Errorf("%s the words are not those of the findings: %v", when, err)
		}
		if s.count(t, `pragma_foreign_key_check`) > 0 {
			t.Errorf("%s something refers to what is not there", when)
		}
		var on bool
		if err := s.write.QueryRow(`PRAGMA foreign_keys`).Scan(&on); err != nil || !on {
			t.Errorf("%s nothing is held against what it refers to: %v", when, err)
		}
	}
	s, in := begun(t, t.TempDir())
	at := time.Date(2026, 5, 1, 10, 0, 0, 0, time.UTC)
	if err := s.change(t.Context(), func(tx *sql.Tx) error {
		_, err := mergeFindings(t.Context(), tx, in.service, Batch{ID: 1, Started: at, Service: "quay"},
			someFindings(rand.New(rand.NewPCG(1, 2)), at))
		return err
	}); err != nil {
		t.Fatal(err)
	}
	for _, statement := range []string{`DELETE FROM findings WHERE nr % 3 = 0`, `VACUUM`} {
		if _, err := s.write.Exec(statement); err != nil {
			t.Fatal(err)
		}
	}
	whole(s, "written anew")
	whole(open(t, ofVersion(t, 23)), "brought up to date")
}

// TestPrintsAreBounded shows other values of one finding in many batches, as a recorder does.
func TestPrintsAreBounded(t *testing.T) {
	s, in := begun(t, t.TempDir())
	at := time.Date(2026, 5, 1, 10, 0, 0, 0, time.UTC)
	one := someFindings(rand.New(rand.NewPCG(1, 2)), at)[:1]
	for n := range 60 {
		one[0].Prints = nil
		for k := range 64 {
			one[0].Prints = append(one[0].Prints, uint64(n*1000+k))
		}
		if err := s.change(t.Context(), func(tx *sql.Tx) error {
			_, err := (&Evidence{Findings: one}).merge(t.Context(), tx, in.service, Batch{ID: in.batch.ID, Started: at,
				Service: "quay"})
			return err
		}); err != nil {
			t.Fatal(err)
		}
	}
	if n := s.count(t, "prints"); n < mostPrints || n > mostPrints+64 {
		t.Errorf("%d prints are kept", n)
	}
}
