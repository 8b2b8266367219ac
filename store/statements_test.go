package store

import (
	"fmt"
	"sync"
	"testing"
)

// TestStatementsAreKept: what a kept statement answers is what a fresh one would, while its rows are still read, after
// the tables have changed, after it has failed, and when more texts were seen than are kept.
func TestStatementsAreKept(t *testing.T) {
	s := open(t, t.TempDir())
	db := s.write
	if _, err := db.ExecContext(t.Context(), `CREATE TABLE boats (id INTEGER PRIMARY KEY, name TEXT UNIQUE)`); err != nil {
		t.Fatal(err)
	}
	tx, err := db.BeginTx(t.Context(), nil)
	if err != nil {
		t.Fatal(err)
	}
	const add = `INSERT INTO boats (name) VALUES (?)`
	for i := range 5 {
		if _, err := tx.ExecContext(t.Context(), add, fmt.Sprintf("boat %d", i)); err != nil {
			t.Fatal(err)
		}
		if _, err := tx.ExecContext(t.Context(), add, fmt.Sprintf("boat %d", i)); err == nil {
			t.Fatal("a name was added twice")
		}
	}
	if err := tx.Commit(); err != nil {
		t.Fatal(err)
	}

	// The same text while its rows are read, left before the end.
	tx, err = db.BeginTx(t.Context(), nil)
	if err != nil {
		t.Fatal(err)
	}
	const above = `SELECT id FROM boats WHERE id > ? ORDER BY id`
	pairs := 0
	outer, err := tx.QueryContext(t.Context(), above, 1)
	if err != nil {
		t.Fatal(err)
	}
	for outer.Next() {
		var id int
		if err := outer.Scan(&id); err != nil {
			t.Fatal(err)
		}
		inner, err := tx.QueryContext(t.Context(), above, id)
		if err != nil {
			t.Fatal(err)
		}
		for inner.Next() {
			pairs++
		}
		inner.Close()
	}
	outer.Close()
	if pairs != 3+2+1 {
		t.Errorf("%d pairs, not 6", pairs)
	}
	var first int
	if err := tx.QueryRowContext(t.Context(), above, 0).Scan(&first); err != nil || first != 1 {
		t.Errorf("the first is %d: %v", first, err)
	}
	if err := tx.Rollback(); err != nil {
		t.Fatal(err)
	}

	// More texts than are kept, the table changed between them.
	for i := range mostKept + 20 {
		if i == mostKept/2 {
			if _, err := db.ExecContext(t.Context(), `ALTER TABLE boats ADD COLUMN length REAL DEFAULT 9.5`); err != nil {
				t.Fatal(err)
			}
		}
		var got int
		q := fmt.Sprintf(`SELECT %d + count(*) FROM boats`, i)
		if err := db.QueryRowContext(t.Context(), q).Scan(&got); err != nil || got != i+5 {
			t.Fatalf("%s gave %d: %v", q, got, err)
		}
	}
	rows, err := db.QueryContext(t.Context(), `SELECT * FROM boats WHERE id > ?`, 0)
	if err != nil {
		t.Fatal(err)
	}
	defer rows.Close()
	if columns, _ := rows.Columns(); len(columns) != 3 {
		t.Errorf("columns %v after one was added", columns)
	}

	// Many readers at once.
	var wg sync.WaitGroup
	for i := range 8 {
		wg.Go(func() {
			for n := range 200 {
				var got int
				err := s.read.QueryRowContext(t.Context(), `SELECT count(*) + ? FROM boats`, n).Scan(&got)
				if err != nil || got != n+5 {
					t.Errorf("reader %d got %d, not %d: %v", i, got, n+5, err)
					return
				}
			}
		})
	}
	wg.Wait()
}
