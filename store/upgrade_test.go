package store

import (
	"context"
	"database/sql"
	"fmt"
	"io/fs"
	"log/slog"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/pressly/goose/v3"
)

// ofVersion makes a data folder whose database has the tables of an earlier version and a row in each that it had.
func ofVersion(t *testing.T, version int64) string {
	t.Helper()
	dir := t.TempDir()
	db, err := sql.Open("sqlite", dsn(filepath.Join(dir, databaseName)))
	if err != nil {
		t.Fatal(err)
	}
	db.SetMaxOpenConns(1)
	files, _ := fs.Sub(migrations, "migrations")
	p, err := goose.NewProvider(goose.DialectSQLite3, db, files, goose.WithSlog(slog.New(slog.DiscardHandler)))
	if err != nil {
		t.Fatal(err)
	}
	if _, err := p.UpTo(t.Context(), version); err != nil {
		t.Fatal(err)
	}
	for _, table := range tablesOf(t, db) {
		fillTable(t, db, table)
	}
	if err := db.Close(); err != nil {
		t.Fatal(err)
	}
	return dir
}

func tablesOf(t *testing.T, db *sql.DB) []string {
	t.Helper()
	all, err := rows(t.Context(), db, func(r scanner) (name string, err error) { return name, r.Scan(&name) },
		`SELECT name FROM sqlite_master WHERE type = 'table' AND name NOT LIKE 'sqlite%' AND name NOT LIKE 'goose%' AND sql NOT LIKE 'CREATE VIRTUAL%' AND name NOT LIKE '%\_data' ESCAPE '\' AND name NOT LIKE '%\_idx' ESCAPE '\'
		 AND name NOT LIKE '%\_content' ESCAPE '\' AND name NOT LIKE '%\_docsize' ESCAPE '\' AND name NOT LIKE '%\_config' ESCAPE '\' ORDER BY rowid`)
	if err != nil {
		t.Fatal(err)
	}
	return all
}

// fillTable adds a row that refers to the first rows of others; a table that has one by a trigger or migration
// keeps it.
func fillTable(t *testing.T, db *sql.DB, table string) {
	t.Helper()
	var n int
	if err := db.QueryRow(`SELECT count(*) FROM ` + table).Scan(&n); err != nil {
		t.Fatal(err)
	}
	if n > 0 {
		return
	}
	type column struct {
		name, kind string
		needed     bool
	}
	all, err := rows(t.Context(), db, func(r scanner) (c column, err error) {
		return c,
			r.Scan(&c.name, &c.kind, &c.needed)
	}, `SELECT name, type, "notnull" FROM pragma_table_xinfo(?) WHERE hidden = 0`, table)
	if err != nil {
		t.Fatal(err)
	}
	refers := map[string]string{}
	if _, err := rows(t.Context(), db, func(r scanner) (x int, err error) {
		var from, to string
		err = r.Scan(&from, &to)
		refers[from] = to
		return 0, err
	}, `SELECT "from", "table" FROM pragma_foreign_key_list(?)`, table); err != nil {
		t.Fatal(err)
	}
	var names, values []string
	for _, c := range all {
		value := map[string]string{"INTEGER": "1", "TEXT": "'a'", "BLOB": "x'00'", "REAL": "1"}[c.kind]
		switch to := refers[c.name]; {
		case to == "findings":
			value = "(SELECT id FROM findings LIMIT 1)"
		case to != "":
			value = "(SELECT id FROM " + to + " LIMIT 1)"
		case c.name == "state" && table == "findings":
			value = "'confirmed'"
		case c.name == "role":
			value = "'lead'"
		case c.name == "kind" && table == "keys":
			value = "'session'"
		case strings.HasPrefix(c.name, "by_severity"):
			value = "'{}'"
		case table == "askings" && c.name == "what":
			value = "'withdraw'"
		case c.name == "findings" && table == "results", c.name == "words", c.name == "files", c.name == "skip_reasons",
			c.name == "names", c.name == "numbers":
			value = "'[]'"
		}
		names, values = append(names, `"`+c.name+`"`), append(values, value)
	}
	if _, err := db.Exec(fmt.Sprintf(`INSERT INTO %s (%s) VALUES (%s)`, table, strings.Join(names, ", "),
		strings.Join(values, ", "))); err != nil {
		t.Errorf("%s stays empty: %v", table, err)
	}
}

// schemaOf returns the statements that made a database, each on a line.
func schemaOf(t *testing.T, db *sql.DB) string {
	t.Helper()
	all, err := rows(t.Context(), db, func(r scanner) (text string, err error) { return text, r.Scan(&text) },
		`SELECT type || ' ' || name || ' ' || tbl_name FROM sqlite_master ORDER BY 1`)
	if err != nil {
		t.Fatal(err)
	}
	return strings.Join(all, "\n")
}

// TestUpgradesFromEveryVersion opens databases of every earlier version, each with rows, and compares them with a
// new one.
func TestUpgradesFromEveryVersion(t *testing.T) {
	fresh := open(t, t.TempDir())
	want, newest := schemaOf(t, fresh.read), fresh.version
	if newest < 14 {
		t.Fatalf("the newest version is %d", newest)
	}
	for version := int64(1); version < newest; version++ {
		dir := ofVersion(t, version)
		before := counts(t, dir)
		s, err := Open(t.Context(), dir)
		if err != nil {
			t.Errorf("from version %d: %v", version, err)
			continue
		}
		if got := schemaOf(t, s.read); got != want {
			t.Errorf("from version %d the tables are\n%s\nnew ones are\n%s", version, got, want)
		}
		for _, check := range []string{"integrity_check", "foreign_key_check"} {
			var said string
			if err := s.read.QueryRow(`SELECT coalesce(group_concat(x), 'ok') FROM (SELECT * FROM pragma_` + check +
				`) AS t(x)`).Scan(&said); err == nil && said != "ok" {
				t.Errorf("from version %d, %s says %s", version, check, said)
			}
		}
		for table, n := range before {
			var now int
			if err := s.read.QueryRow(`SELECT count(*) FROM ` + table).Scan(&now); err != nil || now < n &&
				table != "batches" && table != "captures" && table != "occurrences" {
				t.Errorf("from version %d, %s had %d rows and has %d, %v", version, table, n, now, err)
			}
		}
		if _, _, err := s.Findings.Findings(t.Context(), FindingFilter{}, Page{1, 10}); err != nil {
			t.Errorf("from version %d findings cannot be listed: %v", version, err)
		}
		s.Close()
		backup := s.upgradeBackup(version)
		if info, err := os.Stat(backup); err != nil || info.Mode().Perm() != 0o600 {
			t.Errorf("from version %d: no backup was made before, %v", version, err)
		}
		if err := verify(t.Context(), backup); err != nil {
			t.Errorf("the backup before the upgrade from version %d: %v", version, err)
		}
	}
}

func counts(t *testing.T, dir string) map[string]int {
	t.Helper()
	db, err := sql.Open("sqlite", dsn(filepath.Join(dir, databaseName)))
	if err != nil {
		t.Fatal(err)
	}
	defer db.Close()
	all := map[string]int{}
	for _, table := range tablesOf(t, db) {
		var n int
		if err := db.QueryRow(`SELECT count(*) FROM ` + table).Scan(&n); err != nil {
			t.Fatal(err)
		}
		all[table] = n
	}
	filled := 0
	for _, n := range all {
		filled += min(n, 1)
	}
	if filled < len(all)-1 {
		t.Fatalf("only %d of %d tables have a row", filled, len(all))
	}
	return all
}

// TestADowngradeNamesTheBackup upgrades a database, lets a still newer program write to it, and opens it again.
func TestADowngradeNamesTheBackup(t *testing.T) {
	dir := ofVersion(t, 12)
	s, err := Open(context.Background(), dir)
	if err != nil {
		t.Fatal(err)
	}
	knows := s.version
	if _, err := s.write.Exec(`INSERT INTO goose_db_version (version_id, is_applied) VALUES (?, 1)`,
		knows+1); err != nil {
		t.Fatal(err)
	}
	s.Close()
	_, err = Open(context.Background(), dir)
	if want := filepath.Join(dir, "before-upgrade-from-12.db"); err == nil || !strings.Contains(err.Error(), want) ||
		!strings.Contains(err.Error(), fmt.Sprintf("version %d and this program knows %d", knows+1, knows)) {
		t.Errorf("it says %v, and should name %s", err, want)
	}
	if err := Restore(context.Background(), filepath.Join(dir, "before-upgrade-from-12.db"), filepath.Join(t.TempDir(),
		"new")); err != nil {
		t.Errorf("the backup cannot be restored: %v", err)
	}
}

// TestTheTrailOfBothEditions checks that entries written before people were part of the hash still verify, and that
// those parts cannot be changed unnoticed.
func TestTheTrailOfBothEditions(t *testing.T) {
	s := open(t, t.TempDir())
	old := TrailEntry{At: when(1000), Author: "Noor", Action: "reveal", Subject: "capture 1", Detail: "d", edition: 1}
	if _, err := s.write.Exec(`INSERT INTO trail (at, author, action, subject, detail, hash) VALUES (1000, 'Noor', 'reveal', 'capture 1', 'd', ?)`, old.chained("")); err != nil {
		t.Fatal(err)
	}
	if err := s.AddTrail(t.Context(), TrailEntry{At: when(2000), Author: "Noor", Action: "reveal", Subject: "capture 2",
		PersonID: 7, Email: "noor@quay.example", Key: "token 3"}); err != nil {
		t.Fatal(err)
	}
	if n, _, err := s.VerifyTrail(t.Context()); err != nil || n != 2 {
		t.Fatalf("%d entries, %v", n, err)
	}
	for _, change := range []string{`person_id = 8`, `email = 'iva@quay.example'`, `by_key = 'token 4'`,
		`author = 'Iva'`, `edition = 1`} {
		tx, _ := s.write.Begin()
		if _, err := tx.Exec(`UPDATE trail SET ` + change + ` WHERE id = 2`); err != nil {
			t.Fatal(err)
		}
		tx.Commit()
		if _, _, err := s.VerifyTrail(t.Context()); err == nil {
			t.Errorf("nobody sees that %s", change)
		}
		s.write.Exec(`UPDATE trail SET person_id = 7, email = 'noor@quay.example', by_key = 'token 3', author = 'Noor', edition = 2 WHERE id = 2`)
	}
	if all, n, err := s.Trail(t.Context(), TrailFilter{Person: 7}, Page{1, 10}); err != nil || n != 1 ||
		all[0].Key != "token 3" {
		t.Errorf("%+v, %d, %v", all, n, err)
	}
}
