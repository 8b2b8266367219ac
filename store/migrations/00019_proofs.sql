-- +goose Up
ALTER TABLE captures ADD COLUMN call INTEGER NOT NULL DEFAULT 0; -- keyed hash of method, address and audience; 0 where it is not yet known, -1 where it cannot be
ALTER TABLE captures ADD COLUMN recorded INTEGER NOT NULL DEFAULT 0; -- when it was made, as far as that counts, else when it arrived
CREATE INDEX captures_call ON captures(call) WHERE call <> 0;
CREATE INDEX captures_uncalled ON captures(id) WHERE call = 0 AND endpoint_id <> '';
CREATE INDEX captures_denied ON captures(batch_id) WHERE status IN (401, 403, 404, 410);
UPDATE captures SET recorded = iif(started > 0, started, coalesce((SELECT started FROM batches WHERE batches.id = batch_id), 0));

CREATE TABLE covers ( -- what the captures of a batch tell of a finding that awaited proof
  finding_id TEXT NOT NULL REFERENCES findings(id) ON DELETE CASCADE,
  batch_id   INTEGER NOT NULL REFERENCES batches(id) ON DELETE CASCADE,
  captures   INTEGER NOT NULL, -- that cover it and have a time
  capture_id INTEGER NOT NULL, -- the first of them; 0 for none
  ground     TEXT NOT NULL, -- what makes it cover it
  last       INTEGER NOT NULL, -- when the latest of them was recorded
  shown      INTEGER NOT NULL, -- one shows it
  PRIMARY KEY (finding_id, batch_id)
) STRICT, WITHOUT ROWID;
CREATE INDEX covers_batch ON covers(batch_id);

ALTER TABLE batches ADD COLUMN heard INTEGER NOT NULL DEFAULT 0; -- when a recorder last sent captures
ALTER TABLE batches ADD COLUMN quiet INTEGER NOT NULL DEFAULT 0; -- the last chunk that proofs were decided by
CREATE INDEX batches_growing ON batches(id) WHERE growing = 1;

ALTER TABLE findings ADD COLUMN shown INTEGER NOT NULL DEFAULT 0; -- when the last capture that shows it was recorded
ALTER TABLE findings ADD COLUMN proven INTEGER NOT NULL DEFAULT 0; -- when the last capture of its proof was recorded
ALTER TABLE findings ADD COLUMN proof INTEGER NOT NULL DEFAULT 0; -- the batch that proved it; 0 for none
ALTER TABLE findings ADD COLUMN doubt TEXT NOT NULL DEFAULT ''; -- why a proof of earlier rules does not hold
CREATE INDEX findings_doubt ON findings(id) WHERE doubt <> '';
UPDATE findings SET shown = coalesce((SELECT max(recorded) FROM occurrences JOIN captures ON captures.id = capture_id WHERE finding_id = findings.id), last_seen);
UPDATE findings SET proof = (SELECT batch_id FROM events WHERE finding_id = findings.id AND kind = 'move' AND became = 'closed' ORDER BY id DESC LIMIT 1),
  proven = (SELECT coalesce((SELECT max(recorded, 1) FROM captures WHERE captures.id = capture_id), at) FROM events WHERE finding_id = findings.id AND kind = 'move' AND became = 'closed' ORDER BY id DESC LIMIT 1)
  WHERE state = 'closed' AND EXISTS (SELECT 1 FROM events WHERE finding_id = findings.id AND kind = 'move' AND became = 'closed');
UPDATE findings SET doubt = 'not yet looked at' WHERE state = 'closed'; -- the service looks at them once it runs

ALTER TABLE batches ADD COLUMN undetermined INTEGER NOT NULL DEFAULT 0; -- records limited to the caller's own of which it could not be told whose they are
ALTER TABLE exercised ADD COLUMN limited INTEGER NOT NULL DEFAULT 0; -- records of which something is limited to the caller's own
ALTER TABLE exercised ADD COLUMN no_owner INTEGER NOT NULL DEFAULT 0; -- of them, those that do not say whose they are
ALTER TABLE exercised ADD COLUMN no_caller INTEGER NOT NULL DEFAULT 0; -- and those of which it is not known who asked
ALTER TABLE batch_exercised ADD COLUMN limited INTEGER NOT NULL DEFAULT 0;
ALTER TABLE batch_exercised ADD COLUMN no_owner INTEGER NOT NULL DEFAULT 0;
ALTER TABLE batch_exercised ADD COLUMN no_caller INTEGER NOT NULL DEFAULT 0;
