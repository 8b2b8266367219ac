package store

import (
	"database/sql"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"inkret/core/finding"
)

func open(t *testing.T, dir string) *Store {
	t.Helper()
	s, err := Open(t.Context(), dir)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { s.Close() })
	return s
}

func TestADatabaseOfANewerProgramIsRefused(t *testing.T) {
	dir := t.TempDir()
	s := open(t, dir)
	if _, err := s.write.Exec(`INSERT INTO goose_db_version (version_id, is_applied) VALUES (999, 1)`); err != nil {
		t.Fatal(err)
	}
	s.Close()
	if _, err := Open(t.Context(), dir); err == nil ||
		!strings.Contains(err.Error(), "the database is of version 999 and this program knows ") {
		t.Errorf("opening gives %v", err)
	}
}

func TestADataFolderIsOpenOnce(t *testing.T) {
	dir := t.TempDir()
	s := open(t, dir)
	if _, err := Open(t.Context(), dir); !errors.Is(err, ErrInUse) {
		t.Errorf("a second time gives %v", err)
	}
	s.Close()
	open(t, dir)
}

func TestADataFolderThatCannotBe(t *testing.T) {
	file := filepath.Join(t.TempDir(), "file")
	if err := os.WriteFile(file, nil, 0o600); err != nil {
		t.Fatal(err)
	}
	for _, dir := range []string{file, filepath.Join(file, "below")} {
		if _, err := Open(t.Context(), dir); err == nil || !strings.Contains(err.Error(), "the data folder") {
			t.Errorf("%s gives %v", dir, err)
		}
	}
	dir := t.TempDir()
	if err := os.WriteFile(filepath.Join(dir, databaseName), []byte("this is no database, and long enough to be told"),
		0o600); err != nil {
		t.Fatal(err)
	}
	if _, err := Open(t.Context(), dir); err == nil {
		t.Error("a file that is no database is opened")
	}
}

func TestTheDatabaseIsForItsOwnerOnly(t *testing.T) {
	dir := t.TempDir()
	begun(t, dir)
	for _, name := range []string{databaseName, databaseName + "-wal", databaseName + "-shm", lockName} {
		info, err := os.Stat(filepath.Join(dir, name))
		if err != nil {
			t.Error(err)
		} else if info.Mode().Perm() != 0o600 {
			t.Errorf("%s has mode %v", name, info.Mode())
		}
	}
}

// begun is a store with a service and a batch that was begun.
func begun(t *testing.T, dir string) (*Store, *Intake) {
	t.Helper()
	s := open(t, dir)
	if _, err := s.Contracts.AddRevision(t.Context(), Revision{Service: "quay", Created: time.Now()}, &Effect{},
		nil); err != nil {
		t.Fatal(err)
	}
	in, err := s.Captures.Begin(t.Context(), Batch{Service: "quay", Name: "x", Started: time.Now()})
	if err != nil {
		t.Fatal(err)
	}
	for range flushAt + 1 { // some are written, one is not
		if err := in.Add(t.Context(), Capture{EndpointID: "e", Sealed: []byte{1}},
			[]Occurrence{{Finding: "f"}}); err != nil {
			t.Fatal(err)
		}
	}
	return s, in
}

func (s *Store) count(t *testing.T, table string) (n int) {
	t.Helper()
	if err := s.write.QueryRow(`SELECT count(*) FROM ` + table).Scan(&n); err != nil {
		t.Fatal(err)
	}
	return n
}

func TestWhatAKilledServiceHadBegunIsGone(t *testing.T) {
	dir := t.TempDir()
	s, _ := begun(t, dir)
	if n := s.count(t, "captures"); n != flushAt {
		t.Fatalf("%d captures are written", n)
	}
	if _, total, _, _ := s.Captures.Captures(t.Context(), CaptureFilter{}, Page{Number: 1, Size: 1}); total != 0 {
		t.Errorf("%d captures of an unfinished batch are seen", total)
	}
	s.Close() // as a kill leaves it: the batch is not finished
	s = open(t, dir)
	for _, table := range []string{"batches", "captures", "occurrences"} {
		if n := s.count(t, table); n != 0 {
			t.Errorf("%d %s are left", n, table)
		}
	}
}

func TestFinishingIsAllOrNothing(t *testing.T) {
	s, in := begun(t, t.TempDir())
	good := Finding{ID: "f", Kind: "secret-value", Severity: 5, Endpoint: "GET /a"}
	if _, err := s.write.Exec(`CREATE TRIGGER fail BEFORE INSERT ON endpoints BEGIN SELECT RAISE(ABORT, 'disk full'); END`); err != nil {
		t.Fatal(err)
	}
	b := Batch{Service: "quay", Digest: "d", Started: time.Now()}
	if _, err := in.Finish(t.Context(), b, Evidence{Findings: []Finding{good},
		Seen: []SeenEndpoint{{Text: "GET /a", Captures: 1}}}, nil); err == nil {
		t.Fatal("finishing works with a disk that is full")
	}
	if n := s.count(t, "findings"); n != 0 {
		t.Errorf("%d findings are there all the same", n)
	}
	if _, err := s.write.Exec(`DROP TRIGGER fail`); err != nil {
		t.Fatal(err)
	}
	done, err := in.Finish(t.Context(), b, Evidence{Findings: []Finding{good},
		Seen: []SeenEndpoint{{Text: "GET /a", Captures: 1}}}, nil)
	if err != nil || done.NewFindings != 1 || s.count(t, "captures") != flushAt+1 {
		t.Errorf("the second try: %+v, %v, %d captures", done, err, s.count(t, "captures"))
	}
}

func TestAFindingThatWasClosedReturns(t *testing.T) {
	s, in := begun(t, t.TempDir())
	f := Finding{ID: "f", Kind: "secret-value", Severity: 4, Endpoint: "GET /a",
		Facts: finding.Facts{Spots: 1}}
	if _, err := in.Finish(t.Context(), Batch{Service: "quay", Digest: "1", Started: time.Now()},
		Evidence{Findings: []Finding{f}}, nil); err != nil {
		t.Fatal(err)
	}
	if _, err := s.write.Exec(`UPDATE findings SET state = 'closed'`); err != nil {
		t.Fatal(err)
	}
	in, err := s.Captures.Begin(t.Context(), Batch{Service: "quay", Name: "y", Started: time.Now()})
	if err != nil {
		t.Fatal(err)
	}
	f.Severity, f.Why = 5, "graver"
	if _, err := in.Finish(t.Context(), Batch{Service: "quay", Digest: "2", Author: "Noor", Started: time.Now()},
		Evidence{Findings: []Finding{f}}, nil); err != nil {
		t.Fatal(err)
	}
	got, err := s.Findings.Finding(t.Context(), "f")
	if err != nil || got.State != "returned" || got.Severity != 5 || got.Why != "graver" || got.Spots != 2 {
		t.Errorf("the finding is %+v, %v", got, err)
	}
	events, _ := s.Findings.Events(t.Context(), "f")
	if last := events[len(events)-1]; last.Was != "closed" || last.Became != "returned" || last.Author != "Noor" {
		t.Errorf("the last event is %+v", last)
	}
}

func TestMovesAtOnceComeOneAfterTheOther(t *testing.T) {
	s, in := begun(t, t.TempDir())
	if _, err := in.Finish(t.Context(), Batch{Service: "quay", Digest: "1", Started: time.Now()},
		Evidence{Findings: []Finding{{ID: "f", Severity: 1}}}, nil); err != nil {
		t.Fatal(err)
	}
	taken := errors.New("somebody was faster")
	var all sync.WaitGroup
	results := make(chan error, 20)
	for range cap(results) {
		all.Go(func() {
			refused, err := s.Findings.ChangeFindings(t.Context(), &Change{At: time.Now()}, []string{"f"},
				func(was Standing) (Standing, string) {
					next := was
					if next.State = "confirmed"; was.State != "new" {
						return was, "taken"
					}
					return next, ""
				}, func(*Change) []TrailEntry { return nil })
			if len(refused) > 0 {
				err = taken
			}
			results <- err
		})
	}
	all.Wait()
	close(results)
	won := 0
	for err := range results {
		switch err {
		case nil:
			won++
		case taken:
		default:
			t.Error(err)
		}
	}
	events, _ := s.Findings.Events(t.Context(), "f")
	if won != 1 || len(events) != 2 {
		t.Errorf("%d moves came through, %d events are noted", won, len(events))
	}
}

// TestManyCapturesAreNotCountedOut bounds what counting a listing costs.
func TestManyCapturesAreNotCountedOut(t *testing.T) {
	s, in := begun(t, t.TempDir())
	if _, err := in.Finish(t.Context(), Batch{Service: "quay", Digest: "1", Started: time.Now()}, Evidence{},
		nil); err != nil {
		t.Fatal(err)
	}
	if _, err := s.write.Exec(`DELETE FROM captures`); err != nil {
		t.Fatal(err)
	}
	add := func(n int) {
		t.Helper()
		if _, err := s.write.Exec(`WITH RECURSIVE n(i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n WHERE i < ?)
			INSERT INTO captures (batch_id, entry, endpoint_id, method, url, audience, audience_by, status, started, bytes, excess, findings, skipped, sealed)
			SELECT (SELECT max(id) FROM batches), i, 'e', 'GET', '/x', 'visitor', '', 200, 0, 1, 0, 0, '', x'' FROM n`,
			n); err != nil {
			t.Fatal(err)
		}
	}
	for _, c := range []struct {
		add, total int
		more       bool
	}{{mostCounted, mostCounted, false}, {1, mostCounted, true}, {50, mostCounted, true}} {
		add(c.add)
		all, total, more, err := s.Captures.Captures(t.Context(), CaptureFilter{Audience: "visitor"},
			Page{Number: 2, Size: 20})
		if err != nil || len(all) != 20 || total != c.total || more != c.more {
			t.Errorf("%d captures more: %d of %d, more %v, %v", c.add, len(all), total, more, err)
		}
	}
}

// TestWeightsFollowTheCaptures compares the weights that are kept with the sum over the captures.
func TestWeightsFollowTheCaptures(t *testing.T) {
	s, in := begun(t, t.TempDir())
	if _, err := in.Finish(t.Context(), Batch{Service: "quay", Digest: "1", Started: time.Now()}, Evidence{},
		nil); err != nil {
		t.Fatal(err)
	}
	same := func(what string) {
		t.Helper()
		const sums = `SELECT coalesce(group_concat(endpoint_id || audience || day || ' ' || n || ' ' || b || ' ' || e, '; '), '') FROM (%s ORDER BY 1, 2, 3)`
		var kept, added string
		if err := s.read.QueryRow(fmt.Sprintf(sums,
			`SELECT endpoint_id, audience, day, captures AS n, bytes AS b, excess AS e FROM weights WHERE captures > 0`)).Scan(&kept); err != nil {
			t.Fatal(err)
		}
		if err := s.read.QueryRow(fmt.Sprintf(sums,
			`SELECT endpoint_id, audience, date(started / 1000, 'unixepoch') AS day, count(*) AS n, sum(bytes) AS b, sum(excess) AS e FROM captures WHERE skipped = '' GROUP BY 1, 2, 3`)).Scan(&added); err != nil {
			t.Fatal(err)
		}
		if kept != added {
			t.Errorf("after %s the weights are\n%s\nand should be\n%s", what, kept, added)
		}
	}
	var some []Rejudged
	for i := 1; i <= 20; i++ {
		c := Capture{Entry: i, EndpointID: fmt.Sprint("e", i%3), Method: "GET", URL: "/x", Audience: []string{"office",
			"visitor"}[i%2],
			Status: 200, Started: time.UnixMilli(int64(i) * 50_000_000), Bytes: i, Excess: i / 2, Sealed: []byte{}}
		if i%7 == 0 {
			c.Skipped = "an image"
		}
		some = append(some, Rejudged{Capture: c})
	}
	if err := s.change(t.Context(), func(tx *sql.Tx) error {
		return addCaptures(t.Context(), tx, 1,
			some)
	}); err != nil {
		t.Fatal(err)
	}
	for i, c := range some {
		var entry int
		if err := s.read.QueryRow(`SELECT entry FROM captures WHERE id = ?`, c.ID).Scan(&entry); err != nil ||
			entry != i+1 {
			t.Errorf("capture %d has the id of entry %d, %v", i+1, entry, err)
		}
	}
	same("taking in")
	for _, step := range []struct{ what, sql string }{
		{"judging anew", `UPDATE captures SET audience = 'office', excess = 0, skipped = '' WHERE entry % 5 = 0`},
		{"nothing", `UPDATE captures SET bytes = bytes`},
		{"skipping", `UPDATE captures SET skipped = 'told not to', endpoint_id = 'e0' WHERE entry IN (3, 4)`},
		{"withdrawing some", `DELETE FROM captures WHERE entry > 10`},
		{"withdrawing all", `DELETE FROM batches`},
	} {
		if _, err := s.write.Exec(step.sql); err != nil {
			t.Fatalf("%s: %v", step.what, err)
		}
		same(step.what)
	}
}
