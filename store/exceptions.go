package store

import (
	"context"
	"database/sql"
	"encoding/json"
	"time"
)

// MayBeExcepted lists the findings of a service that have an exception, or are at endpoints that exceptions name.
func (s *Contracts) MayBeExcepted(ctx context.Context, service string, endpoints []string) ([]Finding, error) {
	list, err := json.Marshal(append([]string{}, endpoints...))
	if err != nil {
		return nil, err
	}
	return rows(ctx, s.db.read, scanFinding, `SELECT `+findingColumns+findingTables+
		` WHERE services.name = ? AND (excepted <> '' OR endpoint IN (SELECT value FROM json_each(?)))`, service,
		string(list))
}

// SetExcepted sets the exceptions of findings. An empty reason removes one.
func (s *Contracts) SetExcepted(ctx context.Context, reasons map[string]string, author string, at time.Time) error {
	return s.db.change(ctx, func(tx *sql.Tx) error { return setExcepted(ctx, tx, reasons, author, 0, at) })
}

func setExcepted(ctx context.Context, tx *sql.Tx, reasons map[string]string, author string, revision int,
	at time.Time) error {
	for id, reason := range reasons {
		var was string
		err := tx.QueryRowContext(ctx, `SELECT excepted FROM findings WHERE id = ?`, id).Scan(&was)
		if err == sql.ErrNoRows || err == nil && was == reason {
			continue
		}
		if err != nil {
			return err
		}
		if _, err := tx.ExecContext(ctx, `UPDATE findings SET excepted = ? WHERE id = ?`, reason, id); err != nil {
			return err
		}
		if err := addEvent(ctx, tx, id, Event{At: at, Author: author, Kind: "excepted", Was: was, Became: reason,
			Revision: revision}); err != nil {
			return err
		}
	}
	return nil
}
