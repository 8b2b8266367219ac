package store

import (
	"context"
)

// ServiceOf returns the service of a finding, capture, batch, result or request with an id, or checks a service's
// name. It returns [ErrNotFound] if there is no such thing.
func (s *Database) ServiceOf(ctx context.Context, what, id string) (name string, err error) {
	query, ok := map[string]string{
		"service": `SELECT id FROM services WHERE name = ?`,
		"finding": `SELECT service_id FROM findings WHERE id = ?`,
		"watch":   `SELECT service_id FROM watches WHERE id = ?`,
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
