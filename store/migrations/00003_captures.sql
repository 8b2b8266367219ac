-- +goose Up
ALTER TABLE batches ADD COLUMN origin TEXT NOT NULL DEFAULT 'recording'; -- recording, recorder or recapture
ALTER TABLE batches ADD COLUMN growing INTEGER NOT NULL DEFAULT 0; -- a recorder still adds to it
ALTER TABLE batches ADD COLUMN chunk INTEGER NOT NULL DEFAULT 0; -- the last that a recorder sent and that was taken in
ALTER TABLE batches ADD COLUMN dropped INTEGER NOT NULL DEFAULT 0; -- captures that a recorder had to drop
ALTER TABLE captures ADD COLUMN file TEXT NOT NULL DEFAULT ''; -- in an archive; empty for the recording itself
ALTER TABLE captures ADD COLUMN repeats INTEGER NOT NULL DEFAULT 0; -- the capture whose call was made again
ALTER TABLE captures ADD COLUMN holds TEXT NOT NULL DEFAULT 'bodies'; -- bodies, outline or nothing
CREATE INDEX captures_repeats ON captures(repeats) WHERE repeats > 0;
CREATE INDEX captures_started ON captures(started) WHERE holds = 'bodies';

ALTER TABLE services ADD COLUMN keep_days INTEGER NOT NULL DEFAULT 0; -- how long bodies are kept; 0 is without end
ALTER TABLE services ADD COLUMN keep_bodies INTEGER NOT NULL DEFAULT 1;

CREATE TABLE batch_shown ( -- what of shown is from which batch
  batch_id    INTEGER NOT NULL REFERENCES batches(id) ON DELETE CASCADE,
  endpoint_id TEXT NOT NULL,
  audience    TEXT NOT NULL,
  entity      TEXT NOT NULL,
  field       TEXT NOT NULL,
  PRIMARY KEY (batch_id, endpoint_id, audience, entity, field)
) STRICT, WITHOUT ROWID;
CREATE INDEX batch_shown_field ON batch_shown(endpoint_id, audience, entity, field);

CREATE TABLE batch_exercised ( -- and what of exercised
  batch_id    INTEGER NOT NULL REFERENCES batches(id) ON DELETE CASCADE,
  endpoint_id TEXT NOT NULL,
  audience    TEXT NOT NULL,
  status      TEXT NOT NULL,
  captures    INTEGER NOT NULL,
  PRIMARY KEY (batch_id, endpoint_id, audience, status)
) STRICT, WITHOUT ROWID;
CREATE INDEX batch_exercised_response ON batch_exercised(endpoint_id, audience, status);

CREATE TABLE credentials ( -- with which calls are made again as an audience
  service_id INTEGER NOT NULL REFERENCES services(id),
  audience   TEXT NOT NULL,
  names      TEXT NOT NULL, -- of the header fields, JSON
  sealed     BLOB NOT NULL, -- their values, encrypted
  author     TEXT NOT NULL,
  at         INTEGER NOT NULL,
  PRIMARY KEY (service_id, audience)
) STRICT, WITHOUT ROWID;

CREATE TABLE allowed_servers ( -- to which calls may be made again
  service_id INTEGER NOT NULL REFERENCES services(id),
  server     TEXT NOT NULL, -- its base URL, as the contract has it
  address    TEXT NOT NULL, -- where it is reached instead; empty for where its name leads
  author     TEXT NOT NULL,
  at         INTEGER NOT NULL,
  PRIMARY KEY (service_id, server)
) STRICT, WITHOUT ROWID;

CREATE TABLE trail ( -- what was done that others must be able to see; each entry holds the hash of the one before
  id      INTEGER PRIMARY KEY AUTOINCREMENT,
  at      INTEGER NOT NULL,
  author  TEXT NOT NULL,
  action  TEXT NOT NULL,
  subject TEXT NOT NULL,
  detail  TEXT NOT NULL,
  hash    TEXT NOT NULL
) STRICT;
CREATE INDEX trail_subject ON trail(subject, id);
