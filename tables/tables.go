// Package tables reads the schema of a live database through its public interface: PostgreSQL's catalogue views and
// SQLite's pragmas. It reads no rows.
package tables

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"io/fs"
	"net/url"
	"os"
	"slices"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"
	_ "github.com/jackc/pgx/v5/stdlib" // the driver "pgx"
	_ "modernc.org/sqlite"             // the driver "sqlite"

	"inkret/core/schema"
)

// patience is how long a database may take to answer.
const patience = 30 * time.Second

// IsAddress reports whether a source is a live database: a postgres:// or postgresql:// address, or sqlite:
// followed by a file.
func IsAddress(source string) bool {
	return strings.HasPrefix(source, "postgres://") || strings.HasPrefix(source, "postgresql://") ||
		strings.HasPrefix(source, "sqlite:")
}

// Read reads the tables of a live database. For PostgreSQL it reads the schemas in the address's search_path, or
// else all except the server's own; missing parts come from the usual PG… environment variables. Errors name the
// server and the database, never the password.
func Read(ctx context.Context, source string) ([]schema.Table, error) {
	ctx, stop := context.WithTimeout(ctx, patience)
	defer stop()
	if path, ok := strings.CutPrefix(source, "sqlite:"); ok {
		return readSQLite(ctx, path)
	}
	return readPostgres(ctx, source)
}

// Masked returns a source without its password.
func Masked(source string) string {
	u, err := url.Parse(source)
	if err != nil {
		scheme, _, _ := strings.Cut(source, ":")
		return scheme + "://…"
	}
	if u.User != nil {
		u.User = url.User(u.User.Username())
	}
	q := u.Query()
	q.Del("password")
	u.RawQuery = q.Encode()
	return u.String()
}

func readPostgres(ctx context.Context, source string) ([]schema.Table, error) {
	config, err := pgx.ParseConfig(source)
	if err != nil {
		return nil, fmt.Errorf("%s is no address of a PostgreSQL database; expected postgres://user@host:5432/database",
			Masked(source))
	}
	where := fmt.Sprintf("PostgreSQL at %s:%d, database %q", config.Host, config.Port, config.Database)
	conn, err := pgx.ConnectConfig(ctx, config)
	if err != nil {
		return nil, fmt.Errorf("%s: %s", where, whyNot(err))
	}
	defer conn.Close(context.WithoutCancel(ctx))
	tables, err := postgresTables(ctx, conn)
	if err != nil {
		return nil, fmt.Errorf("%s: %s", where, whyNot(err))
	}
	return tables, nil
}

// whyNot returns why a database could not be read, without what was sent to it.
func whyNot(err error) string {
	var server *pgconn.PgError
	switch {
	case errors.As(err, &server) && (server.Code == "28P01" || server.Code == "28000"):
		return "the server refuses the user or the password"
	case errors.As(err, &server):
		return fmt.Sprintf("%s (SQLSTATE %s)", server.Message, server.Code)
	case errors.Is(err, context.DeadlineExceeded):
		return "it did not answer in time"
	case strings.Contains(err.Error(), "connection refused"):
		return "nothing listens there"
	case strings.Contains(err.Error(), "no such host"):
		return "there is no such host"
	}
	return "it cannot be reached"
}

// The queries exclude the server's own schemas; a search_path in the address narrows further.
const (
	pgColumns = `SELECT n.nspname, c.relname, coalesce(obj_description(c.oid, 'pg_class'), ''), a.attname,
		format_type(CASE WHEN t.typtype = 'd' THEN t.typbasetype ELSE a.atttypid END, CASE WHEN t.typtype = 'd' THEN t.typtypmod ELSE a.atttypmod END),
		NOT (a.attnotnull OR t.typnotnull), coalesce(col_description(c.oid, a.attnum), ''),
		ARRAY(SELECT enumlabel::text FROM pg_enum e WHERE e.enumtypid = a.atttypid ORDER BY enumsortorder)
		FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace JOIN pg_attribute a ON a.attrelid = c.oid JOIN pg_type t ON t.oid = a.atttypid
		WHERE c.relkind IN ('r', 'p') AND NOT c.relispartition AND a.attnum > 0 AND NOT a.attisdropped AND n.nspname !~ '^pg_' AND n.nspname <> 'information_schema'
		ORDER BY n.nspname <> current_schema(), n.nspname, c.relname, a.attnum`
	pgKeys = `SELECT n.nspname, c.relname, k.contype::text,
		ARRAY(SELECT attname::text FROM unnest(k.conkey) WITH ORDINALITY u(num, ord) JOIN pg_attribute ON attrelid = c.oid AND attnum = u.num ORDER BY ord),
		coalesce(fn.nspname, ''), coalesce(fc.relname, ''),
		EXISTS (SELECT 1 FROM pg_index i WHERE i.indrelid = c.oid AND i.indisunique AND i.indpred IS NULL AND i.indkey::int2[] = k.conkey)
		FROM pg_constraint k JOIN pg_class c ON c.oid = k.conrelid JOIN pg_namespace n ON n.oid = c.relnamespace
		LEFT JOIN pg_class fc ON fc.oid = k.confrelid LEFT JOIN pg_namespace fn ON fn.oid = fc.relnamespace
		WHERE k.contype IN ('p', 'f') AND k.conparentid = 0 ORDER BY k.contype DESC, k.conname`
)

func postgresTables(ctx context.Context, conn *pgx.Conn) ([]schema.Table, error) {
	var tables []schema.Table
	index := map[string]int{}
	rows, err := conn.Query(ctx, pgColumns)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	for rows.Next() {
		var space, table, comment string
		var col schema.Column
		if err := rows.Scan(&space, &table, &comment, &col.Name, &col.Type, &col.Nullable, &col.Comment,
			&col.Values); err != nil {
			return nil, err
		}
		name := qualified(space, table)
		i, known := index[name]
		if !known {
			i = len(tables)
			index[name] = i
			tables = append(tables, schema.Table{Name: name, Comment: comment})
		}
		tables[i].Columns = append(tables[i].Columns, col)
	}
	if err := rows.Err(); err != nil {
		return nil, err
	}
	keys, err := conn.Query(ctx, pgKeys)
	if err != nil {
		return nil, err
	}
	defer keys.Close()
	for keys.Next() {
		var space, table, kind, targetSpace, target string
		var columns []string
		var unique bool
		if err := keys.Scan(&space, &table, &kind, &columns, &targetSpace, &target, &unique); err != nil {
			return nil, err
		}
		i, known := index[qualified(space, table)]
		switch {
		case !known:
		case kind == "p":
			tables[i].Primary = columns
		default:
			tables[i].Foreign = append(tables[i].Foreign, schema.ForeignKey{Columns: columns,
				Table: qualified(targetSpace, target), Unique: unique})
		}
	}
	return tables, keys.Err()
}

func qualified(space, table string) string {
	if space == "public" {
		return table
	}
	return space + "." + table
}

func readSQLite(ctx context.Context, path string) ([]schema.Table, error) {
	if _, err := os.Stat(path); errors.Is(err, fs.ErrNotExist) {
		return nil, fmt.Errorf("%s: there is no such file", path)
	}
	db, err := sql.Open("sqlite", (&url.URL{Scheme: "file", Opaque: url.PathEscape(path),
		RawQuery: "mode=ro"}).String())
	if err != nil {
		return nil, fmt.Errorf("%s: %w", path, err)
	}
	defer db.Close()
	// The CREATE statements contain comments and checks; the pragmas contain what SQLite derived from them.
	rows, err := db.QueryContext(ctx,
		`SELECT sql FROM sqlite_schema WHERE sql IS NOT NULL AND type IN ('table', 'index') AND name NOT LIKE 'sqlite\_%' ESCAPE '\' ORDER BY type DESC, rowid`)
	if err != nil {
		return nil, fmt.Errorf("%s: it is no SQLite database, or it cannot be read", path)
	}
	defer rows.Close()
	var script strings.Builder
	for rows.Next() {
		var one string
		if err := rows.Scan(&one); err != nil {
			return nil, fmt.Errorf("%s: %w", path, err)
		}
		script.WriteString(one + ";\n")
	}
	if err := rows.Err(); err != nil {
		return nil, fmt.Errorf("%s: it is no SQLite database, or it cannot be read", path)
	}
	tables, _, err := schema.DDLTables([]byte(script.String())) // what it does not understand, the pragmas tell
	if err != nil {
		return nil, fmt.Errorf("%s: %w", path, err)
	}
	for i := range tables {
		if err := pragmas(ctx, db, &tables[i]); err != nil {
			return nil, fmt.Errorf("%s: table %s: %w", path, tables[i].Name, err)
		}
	}
	return tables, nil
}

// pragmas reads a table's columns and keys.
func pragmas(ctx context.Context, db *sql.DB, t *schema.Table) error {
	rows, err := db.QueryContext(ctx,
		`SELECT name, type, "notnull", pk FROM pragma_table_xinfo(?) WHERE hidden <> 1 ORDER BY cid`, t.Name)
	if err != nil {
		return err
	}
	defer rows.Close()
	written := t.Columns
	t.Columns = nil
	for rows.Next() {
		var col schema.Column
		var notNull bool
		var primary int
		if err := rows.Scan(&col.Name, &col.Type, &notNull, &primary); err != nil {
			return err
		}
		col.Nullable = !notNull && primary == 0
		if i := slices.IndexFunc(written, func(c schema.Column) bool { return c.Name == col.Name }); i >= 0 {
			col.Comment, col.Values = written[i].Comment, written[i].Values
		}
		t.Columns = append(t.Columns, col)
	}
	return rows.Err()
}
