package store

import (
	"context"
	"database/sql"
	"database/sql/driver"
	"encoding/json"
	"fmt"

	"inkret/core/scan"
)

// Known is what only a whole batch tells of its values and names, kept as JSON.
type Known struct{ scan.Known }

// Scan implements [sql.Scanner].
func (k *Known) Scan(from any) error {
	text, ok := from.(string)
	if !ok {
		return fmt.Errorf("what is known of a batch is kept as text, not as %T", from)
	}
	return json.Unmarshal([]byte(text), &k.Known)
}

// Value implements [driver.Valuer].
func (k Known) Value() (driver.Value, error) {
	text, err := json.Marshal(k.Known)
	return string(text), err
}

// Replace replaces what captures of the batch show, before it is finished.
func (in *Intake) Replace(ctx context.Context, captures []Rejudged) error {
	return in.store.db.change(ctx, func(tx *sql.Tx) error {
		if err := each(ctx, tx, in.batch.ID,
			`DELETE FROM occurrences WHERE capture_id IN (SELECT id FROM captures WHERE batch_id = ?)`); err != nil {
			return err
		}
		return updateCaptures(ctx, tx, captures)
	})
}

// Flush writes what was added so far, and returns the batch's number.
func (in *Intake) Flush(ctx context.Context) (int64, error) { return in.batch.ID, in.flush(ctx) }

// updateCaptures writes new evaluations of captures, whose occurrences are gone.
func updateCaptures(ctx context.Context, tx *sql.Tx, captures []Rejudged) error {
	update, err := tx.PrepareContext(ctx,
		`UPDATE captures SET endpoint_id = ?, audience = ?, audience_by = ?, bytes = ?, excess = ?, skipped = ?, call = ?, refused = ? WHERE id = ?`)
	if err != nil {
		return err
	}
	defer update.Close()
	for _, c := range captures {
		if _, err := update.ExecContext(ctx, c.EndpointID, c.Audience, c.AudienceBy, c.Bytes, c.Excess, c.Skipped,
			c.Call,
			c.Refused, c.ID); err != nil {
			return err
		}
	}
	return addOccurrences(ctx, tx, captures)
}
