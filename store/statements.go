package store

import (
	"context"
	"database/sql"
	"database/sql/driver"
	"strings"
)

// To parse a statement costs more than to carry most of them out, and the same ones are used again and again. A
// connection keeps those that it has parsed.

// keptDriver is the name of the driver whose connections keep statements.
const keptDriver = "sqlite, keeping statements"

func init() {
	db, err := sql.Open("sqlite", "")
	if err != nil {
		panic(err) // it is registered by its import
	}
	sql.Register(keptDriver, keeping{db.Driver()})
}

// keeping is the driver of SQLite with connections that keep statements.
type keeping struct{ driver.Driver }

// Open opens a connection.
func (k keeping) Open(name string) (driver.Conn, error) {
	c, err := k.Driver.Open(name)
	if err != nil {
		return nil, err
	}
	return &connection{Conn: c, kept: map[string]*kept{}}, nil
}

// connection keeps statements. Like every connection it is used by one goroutine at a time.
type connection struct {
	driver.Conn
	kept map[string]*kept
}

// kept is a parsed statement. It is busy while its rows are read: the same text is parsed once more then.
type kept struct {
	driver.Stmt
	busy bool
}

// mostKept is how many statements a connection keeps, longestKept up to which length.
const (
	mostKept    = 256
	longestKept = 4000
)

// statement returns a statement to use, or nil for one that is not kept.
func (c *connection) statement(ctx context.Context, query string) (*kept, error) {
	if s := c.kept[query]; s != nil {
		if s.busy {
			return nil, nil
		}
		return s, nil
	}
	if len(query) > longestKept || !comesAgain(query) {
		return nil, nil
	}
	if len(c.kept) >= mostKept {
		for text, s := range c.kept {
			if !s.busy {
				s.Close()
				delete(c.kept, text)
			}
		}
	}
	stmt, err := c.Conn.(driver.ConnPrepareContext).PrepareContext(ctx, query)
	if err != nil {
		return nil, err
	}
	s := &kept{Stmt: stmt}
	c.kept[query] = s
	return s, nil
}

// comesAgain reports whether a text is one statement that reads or changes rows.
func comesAgain(query string) bool {
	word, _, _ := strings.Cut(strings.TrimLeft(query, " \t\n"), " ")
	switch strings.ToUpper(word) {
	case "SELECT", "INSERT", "UPDATE", "DELETE", "WITH":
		return !strings.Contains(query, ";")
	}
	return false
}

// ExecContext implements [driver.ExecerContext].
func (c *connection) ExecContext(ctx context.Context, query string, args []driver.NamedValue) (driver.Result, error) {
	s, err := c.statement(ctx, query)
	if err != nil {
		return nil, err
	}
	if s == nil {
		return c.Conn.(driver.ExecerContext).ExecContext(ctx, query, args)
	}
	return s.Stmt.(driver.StmtExecContext).ExecContext(ctx, args)
}

// QueryContext implements [driver.QueryerContext].
func (c *connection) QueryContext(ctx context.Context, query string, args []driver.NamedValue) (driver.Rows, error) {
	s, err := c.statement(ctx, query)
	if err != nil {
		return nil, err
	}
	if s == nil {
		return c.Conn.(driver.QueryerContext).QueryContext(ctx, query, args)
	}
	found, err := s.Stmt.(driver.StmtQueryContext).QueryContext(ctx, args)
	if err != nil {
		return nil, err
	}
	s.busy = true
	return &rowsOf{found, s}, nil
}

// rowsOf are rows of a kept statement.
type rowsOf struct {
	driver.Rows
	of *kept
}

// Close ends reading.
func (r *rowsOf) Close() error {
	r.of.busy = false
	return r.Rows.Close()
}

// Close closes the statements and the connection.
func (c *connection) Close() error {
	for _, s := range c.kept {
		s.Close()
	}
	c.kept = nil
	return c.Conn.Close()
}

// PrepareContext implements [driver.ConnPrepareContext].
func (c *connection) PrepareContext(ctx context.Context, query string) (driver.Stmt, error) {
	return c.Conn.(driver.ConnPrepareContext).PrepareContext(ctx, query)
}

// BeginTx implements [driver.ConnBeginTx].
func (c *connection) BeginTx(ctx context.Context, o driver.TxOptions) (driver.Tx, error) {
	return c.Conn.(driver.ConnBeginTx).BeginTx(ctx, o)
}

// Ping implements [driver.Pinger].
func (c *connection) Ping(ctx context.Context) error { return c.Conn.(driver.Pinger).Ping(ctx) }

// ResetSession implements [driver.SessionResetter].
func (c *connection) ResetSession(ctx context.Context) error {
	return c.Conn.(driver.SessionResetter).ResetSession(ctx)
}

// IsValid implements [driver.Validator].
func (c *connection) IsValid() bool { return c.Conn.(driver.Validator).IsValid() }
