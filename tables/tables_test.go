package tables

import (
	"bytes"
	"database/sql"
	"errors"
	"fmt"
	"net"
	"net/url"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"inkret/core/catalog"
	"inkret/core/contract"
	"inkret/core/schema"
	"inkret/demo"
)

// postgres starts a PostgreSQL server from Debian's packages on loopback and gives
// the address of its database. The server ends with the test.
func postgres(t *testing.T, password string) string {
	t.Helper()
	found, _ := filepath.Glob("/usr/lib/postgresql/*/bin")
	if len(found) == 0 {
		t.Fatal("PostgreSQL is not installed; make test installs it")
	}
	bin := found[len(found)-1]
	dir, err := os.MkdirTemp("", "inkret-pg-") // its path is short: the socket's name has to fit
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { os.RemoveAll(dir) })
	data, secret := filepath.Join(dir, "data"), filepath.Join(dir, "password")
	if err := os.WriteFile(secret, []byte(password+"\n"), 0o644); err != nil {
		t.Fatal(err)
	}
	as := func(name string, args ...string) *exec.Cmd { // the server does not run as root
		if me, err := user.Current(); err == nil && me.Uid == "0" {
			return exec.Command("runuser", append([]string{"-u", "postgres", "--", name}, args...)...)
		}
		return exec.Command(name, args...)
	}
	if me, _ := user.Current(); me != nil && me.Uid == "0" {
		if out, err := exec.Command("chown", "-R", "postgres", dir).CombinedOutput(); err != nil {
			t.Fatalf("%v: %s", err, out)
		}
	}
	if out, err := as(filepath.Join(bin, "initdb"), "-D", data, "-U", "harbour", "-A", "scram-sha-256", "--pwfile",
		secret, "-E", "UTF8", "--no-sync").CombinedOutput(); err != nil {
		t.Fatalf("%v: %s", err, out)
	}
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	port := l.Addr().(*net.TCPAddr).Port
	l.Close()
	server := as(filepath.Join(bin, "postgres"), "-D", data, "-p", fmt.Sprint(port), "-c", "listen_addresses=127.0.0.1",
		"-c", "unix_socket_directories="+dir, "-c", "fsync=off")
	var log bytes.Buffer
	server.Stderr = &log
	if err := server.Start(); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() {
		if out, err := as(filepath.Join(bin, "pg_ctl"), "-D", data, "-m", "immediate", "-w",
			"stop").CombinedOutput(); err != nil {
			t.Errorf("%v: %s", err, out)
		}
		server.Wait()
	})
	address := fmt.Sprintf("postgres://harbour:%s@127.0.0.1:%d/postgres?sslmode=disable", url.QueryEscape(password),
		port)
	db, err := sql.Open("pgx", address)
	if err != nil {
		t.Fatal(err)
	}
	defer db.Close()
	for end := time.Now().Add(30 * time.Second); ; {
		if err = db.Ping(); err == nil {
			return address
		}
		if time.Now().After(end) {
			t.Fatalf("the server does not answer: %v\n%s", err, log.String())
		}
		time.Sleep(50 * time.Millisecond)
	}
}

func execute(t *testing.T, driver, source, statements string) {
	t.Helper()
	db, err := sql.Open(driver, source)
	if err != nil {
		t.Fatal(err)
	}
	defer db.Close()
	if _, err := db.Exec(statements); err != nil {
		t.Fatal(err)
	}
}

// catalogue is the demo's.
func catalogue(t *testing.T) *catalog.Catalog {
	t.Helper()
	files, err := demo.Contracts()
	if err != nil {
		t.Fatal(err)
	}
	var in []contract.File
	for _, f := range files {
		in = append(in, contract.File{Name: f.Name, Data: []byte(f.Text)})
	}
	c, err := contract.Read(in...)
	if err != nil {
		t.Fatal(err)
	}
	return c.Catalog
}

func differences(t *testing.T, source string) []string {
	t.Helper()
	all, err := Read(t.Context(), source)
	if err != nil {
		t.Fatal(err)
	}
	var told []string
	for _, d := range catalog.Compare(catalogue(t), schema.Entities(all), false) {
		told = append(told, fmt.Sprintf("%s %s.%s %s|%s", d.Kind, d.Entity, d.Name, d.Was, d.Is))
	}
	return told
}

// TestADriftIsSeen checks that the harbour's database matches the catalogue, except for keys that it does not list,
// and that an added column is reported, in both databases.
func TestADriftIsSeen(t *testing.T) {
	file := filepath.Join(t.TempDir(), "harbour #1.db")
	sources := map[string]string{"pgx": postgres(t, "p@ss/w:rd"), "sqlite": "sqlite:" + file}
	for driver, source := range sources {
		t.Run(driver, func(t *testing.T) {
			open := source
			if driver == "sqlite" {
				open = (&url.URL{Scheme: "file", Opaque: url.PathEscape(file)}).String()
			}
			execute(t, driver, open, demo.Schema)
			before := differences(t, source)
			for _, d := range before {
				if !strings.HasPrefix(d, "new-field ") || !strings.Contains(d, "_id ") {
					if !strings.HasPrefix(d, "new-relation") && !strings.HasPrefix(d, "changed-field") &&
						!strings.HasPrefix(d, "gone-relation") {
						t.Errorf("before anything changed: %s", d)
					}
				}
			}
			execute(t, driver, open,
				`ALTER TABLE boats ADD COLUMN "winter store" varchar(20); CREATE TABLE "Gangways" ("Größe" integer, berth_id integer REFERENCES berths(id))`)
			after := differences(t, source)
			var fresh []string
			for _, d := range after {
				if !slices.Contains(before, d) {
					fresh = append(fresh, d)
				}
			}
			want := []string{"new-field Boat.winter store |string, at most 20, nullable",
				"new-entity Gangway. |2 fields, 1 relations", "new-relation Berth.Gangways |to many Gangway"}
			for _, w := range want {
				if !slices.Contains(fresh, w) {
					t.Errorf("%s is not told: %v", w, fresh)
				}
			}
			if len(fresh) != len(want) {
				t.Errorf("told is %v", fresh)
			}
		})
	}
	t.Run("what PostgreSQL alone has", func(t *testing.T) {
		source := sources["pgx"]
		execute(t, "pgx", source,
			`CREATE SCHEMA audit; CREATE TYPE mood AS ENUM ('calm', 'it''s rough'); CREATE DOMAIN short AS varchar(5) NOT NULL;
			CREATE TABLE audit.entries (at timestamptz, sea mood NOT NULL, code short, tags text[], boss integer REFERENCES berths (id)); COMMENT ON COLUMN audit.entries.sea IS 'as seen
			from the pier'; CREATE TABLE parts (id int) PARTITION BY RANGE (id); CREATE TABLE parts_1 PARTITION OF parts FOR VALUES FROM (1) TO (9);
			CREATE TABLE sails (boat_id integer REFERENCES boats (id), berth_id integer REFERENCES berths (id), PRIMARY KEY (boat_id, berth_id))`)
		all, err := Read(t.Context(), source)
		if err != nil {
			t.Fatal(err)
		}
		c := schema.Entities(all)
		e := c.Entity("Entry")
		if e == nil || e.StoredAs != "audit.entries" || e.Field("sea").Note != "as seen from the pier" ||
			len(e.Field("sea").Values) != 2 || e.Field("code").Max != 5 ||
			e.Field("code").Nullable || e.Field("tags").Type != catalog.Array || e.Field("at").Format != "date-time" {
			t.Errorf("read is %+v", e)
		}
		if c.Entity("Parts1") != nil || c.Entity("Part") == nil || c.Entity("Sail") != nil ||
			c.Entity("Boat").Relation("berths") == nil || !c.Entity("Berth").Relation("boats").Many {
			t.Errorf("partitions or joins are read wrong: %v", c.Names())
		}
	})
	t.Run("a wrong password", func(t *testing.T) {
		_, err := Read(t.Context(), strings.ReplaceAll(sources["pgx"], url.QueryEscape("p@ss/w:rd"), "Sesame1"))
		if err == nil || !strings.Contains(err.Error(), "refuses the user or the password") ||
			strings.Contains(err.Error(), "Sesame1") {
			t.Errorf("the error is %v", err)
		}
	})
}

func TestDatabasesThatCannotBeRead(t *testing.T) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	closed := l.Addr().String()
	l.Close()
	text := filepath.Join(t.TempDir(), "text.db")
	if err := os.WriteFile(text, bytes.Repeat([]byte("no database\n"), 100), 0o600); err != nil {
		t.Fatal(err)
	}
	for source, want := range map[string]string{
		"postgres://u:Sesame1@" + closed + "/x": "nothing listens there",
		"postgres://u:Sesame1@[::1":             "is no address of a PostgreSQL database",
		"sqlite:" + text:                        "it is no SQLite database",
		"sqlite:" + text + "x":                  "there is no such file",
	} {
		_, err := Read(t.Context(), source)
		if err == nil || !strings.Contains(err.Error(), want) || strings.Contains(err.Error(), "Sesame1") {
			t.Errorf("%s: %v", source, err)
		}
	}
	if _, err := os.Stat(text + "x"); !errors.Is(err, os.ErrNotExist) {
		t.Error("a database file was made by reading")
	}
	if Masked("postgres://u:Sesame1@h/d?password=Sesame1&a=b") != "postgres://u@h/d?a=b" || !IsAddress("sqlite:x") ||
		IsAddress("x.sql") {
		t.Error("sources are not told apart, or their passwords shown")
	}
}

// TestAnSQLiteDatabaseWithAllThatItCanHave reads tables with generated columns, quoted names, an index of a
// full text, and one of places.
func TestAnSQLiteDatabaseWithAllThatItCanHave(t *testing.T) {
	file := filepath.Join(t.TempDir(), "harbour.db")
	db, err := sql.Open("sqlite", file)
	if err != nil {
		t.Fatal(err)
	}
	defer db.Close()
	for _, statement := range []string{
		`CREATE TABLE boats (id INTEGER PRIMARY KEY, length REAL NOT NULL, feet REAL GENERATED ALWAYS AS (length * 3.28) STORED, twice REAL AS (length * 2))`,
		`CREATE VIRTUAL TABLE notes USING fts5(title, body, tokenize='porter')`,
		`CREATE VIRTUAL TABLE places USING rtree(id, min_x, max_x)`,
		`CREATE TABLE 'odd name' ("a b" TEXT, [c d] TEXT, e)`,
		`CREATE VIEW v AS SELECT id FROM boats`,
		`CREATE TABLE last (x TEXT)`,
	} {
		if _, err := db.Exec(statement); err != nil {
			t.Fatalf("%s: %v", statement, err)
		}
	}
	all, err := Read(t.Context(), "sqlite:"+file)
	if err != nil {
		t.Fatal(err)
	}
	var got []string
	for _, table := range all {
		var columns []string
		for _, c := range table.Columns {
			columns = append(columns, c.Name)
		}
		got = append(got, table.Name+"("+strings.Join(columns, ", ")+")")
	}
	if text, want := strings.Join(got, " "),
		"boats(id, length, feet, twice) notes(title, body) odd name(a b, c d, e) last(x)"; text != want {
		t.Errorf("read\n%s\nwant\n%s", text, want)
	}
}
