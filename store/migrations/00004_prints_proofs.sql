-- +goose Up
CREATE TABLE prints ( -- keyed hashes of values that leaked: the same at two findings tells that it was the same value
  print      INTEGER NOT NULL,
  finding_id TEXT NOT NULL REFERENCES findings(id) ON DELETE CASCADE,
  batch_id   INTEGER NOT NULL REFERENCES batches(id) ON DELETE CASCADE,
  PRIMARY KEY (print, finding_id, batch_id)
) STRICT, WITHOUT ROWID;
CREATE INDEX prints_finding ON prints(finding_id);
CREATE INDEX prints_batch ON prints(batch_id);

ALTER TABLE events ADD COLUMN capture_id INTEGER NOT NULL DEFAULT 0; -- that proved a repair
CREATE INDEX findings_awaiting ON findings(service_id) WHERE state = 'awaiting-proof';
