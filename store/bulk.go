package store

import (
	"context"
	"database/sql"
	"strings"
)

// Many rows are inserted by few statements, each prepared once: to parse a statement costs more than to insert a row.

// bulk inserts rows. [bulk.add] takes one, [bulk.end] inserts what is left.
type bulk struct {
	tx      *sql.Tx
	into    string // the statement up to VALUES
	after   string // what follows the rows, such as ON CONFLICT
	columns int
	rows    int // that one statement inserts
	full    *sql.Stmt
	values  []any
}

// bulkRows is how many rows one statement inserts, bulkValues how many values at the most.
const (
	bulkRows   = 100
	bulkValues = 2000
)

func newBulk(tx *sql.Tx, into string, columns int, after string) *bulk {
	return &bulk{tx: tx, into: into, after: after, columns: columns, rows: max(1, min(bulkRows, bulkValues/columns))}
}

// statement returns the statement for some rows.
func (b *bulk) statement(rows int) string {
	row := "(?" + strings.Repeat(", ?", b.columns-1) + ")"
	return b.into + " VALUES " + row + strings.Repeat(", "+row, rows-1) + " " + b.after
}

func (b *bulk) add(ctx context.Context, values ...any) error {
	if b.values = append(b.values, values...); len(b.values) < b.rows*b.columns {
		return nil
	}
	if b.full == nil {
		var err error
		if b.full, err = b.tx.PrepareContext(ctx, b.statement(b.rows)); err != nil {
			return err
		}
	}
	_, err := b.full.ExecContext(ctx, b.values...)
	b.values = b.values[:0]
	return err
}

// end inserts the rows that are left.
func (b *bulk) end(ctx context.Context) error {
	if b.full != nil {
		defer b.full.Close()
	}
	if len(b.values) == 0 {
		return nil
	}
	_, err := b.tx.ExecContext(ctx, b.statement(len(b.values)/b.columns), b.values...)
	b.values = nil
	return err
}
