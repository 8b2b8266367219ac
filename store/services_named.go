package store

import (
	"context"
)

// ServiceOf tells which service something is of, by its id: a finding, capture, batch, result or
// request; a service by its name. It gives [ErrNotFound] for what is not there.
func (s *Database) ServiceOf(ctx context.Context, what, id string) (name string, err error) {
	query, ok := map[string]string{
		"service": `SELECT id FROM services WHERE name = ?`,
		"finding": `SELECT service_id FROM findings WHERE id = ?`,
		"capture": `SELECT service_id FROM captures JOIN batches ON batches.id = batch_id WHERE captures.id = ?`,
		"batch":   `SELECT service_id FROM batches WHERE id = ?`,
		"request": `SELECT service_id FROM requests WHERE id = ?`,
		"result":  `SELECT service_id FROM results WHERE id = ?`,
	}[what]
	if !ok {
		return "", ErrNotFound
	}
	err = s.read.QueryRowContext(ctx, `SELECT name FROM services WHERE id = (`+query+`)`, id).Scan(&name)
	return name, none(err)
}
