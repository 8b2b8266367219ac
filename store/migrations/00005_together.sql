-- +goose Up
ALTER TABLE findings ADD COLUMN person_id INTEGER NOT NULL DEFAULT 0; -- to whom it is assigned
ALTER TABLE findings ADD COLUMN assigned_team TEXT NOT NULL DEFAULT ''; -- in place of the endpoint's team
ALTER TABLE findings ADD COLUMN due TEXT NOT NULL DEFAULT ''; -- the last day, UTC
ALTER TABLE findings ADD COLUMN version INTEGER NOT NULL DEFAULT 0; -- counts changes by people and proofs
CREATE INDEX findings_person ON findings(person_id, state);
CREATE INDEX findings_due ON findings(due, state) WHERE due <> '';

-- +goose StatementBegin
CREATE TRIGGER findings_version AFTER UPDATE OF state, until, person_id, assigned_team, due ON findings BEGIN
  UPDATE findings SET version = version + 1 WHERE id = new.id;
END;
-- +goose StatementEnd

CREATE TABLE labels (
  label      TEXT NOT NULL,
  finding_id TEXT NOT NULL REFERENCES findings(id) ON DELETE CASCADE,
  PRIMARY KEY (label, finding_id)
) STRICT, WITHOUT ROWID;
CREATE INDEX labels_finding ON labels(finding_id);

CREATE TABLE changes ( -- what somebody changed of several findings at once
  id        INTEGER PRIMARY KEY,
  at        INTEGER NOT NULL,
  person_id INTEGER NOT NULL,
  author    TEXT NOT NULL,
  words     TEXT NOT NULL,
  findings  INTEGER NOT NULL,
  undone    INTEGER NOT NULL DEFAULT 0
) STRICT;

CREATE TABLE changed ( -- how a finding was before, and its version after
  change_id  INTEGER NOT NULL REFERENCES changes(id) ON DELETE CASCADE,
  finding_id TEXT NOT NULL REFERENCES findings(id) ON DELETE CASCADE,
  was        TEXT NOT NULL, -- JSON
  version    INTEGER NOT NULL,
  PRIMARY KEY (change_id, finding_id)
) STRICT, WITHOUT ROWID;
CREATE INDEX changed_finding ON changed(finding_id);

CREATE TABLE follows ( -- who wants to be told of what becomes of a finding
  person_id  INTEGER NOT NULL REFERENCES people(id) ON DELETE CASCADE,
  finding_id TEXT NOT NULL REFERENCES findings(id) ON DELETE CASCADE,
  PRIMARY KEY (finding_id, person_id)
) STRICT, WITHOUT ROWID;

CREATE TABLE notices ( -- what somebody is told
  id         INTEGER PRIMARY KEY,
  person_id  INTEGER NOT NULL REFERENCES people(id) ON DELETE CASCADE,
  at         INTEGER NOT NULL,
  kind       TEXT NOT NULL, -- assigned, mentioned, moved, comment, returned, closed, request
  author     TEXT NOT NULL,
  finding_id TEXT NOT NULL,
  request_id INTEGER NOT NULL,
  text       TEXT NOT NULL,
  read       INTEGER NOT NULL DEFAULT 0
) STRICT;
CREATE INDEX notices_person ON notices(person_id, read, id DESC);

CREATE TABLE views ( -- a list of findings that somebody wants to see again
  id        INTEGER PRIMARY KEY,
  person_id INTEGER NOT NULL REFERENCES people(id) ON DELETE CASCADE,
  name      TEXT NOT NULL,
  query     TEXT NOT NULL, -- of the console's address
  shared    INTEGER NOT NULL,
  created   INTEGER NOT NULL
) STRICT;

CREATE TABLE requests ( -- somebody asks that a field be granted
  id         INTEGER PRIMARY KEY,
  service_id INTEGER NOT NULL REFERENCES services(id),
  endpoint   TEXT NOT NULL,
  audience   TEXT NOT NULL,
  entity     TEXT NOT NULL,
  field      TEXT NOT NULL,
  member     TEXT NOT NULL, -- as it is to be called; empty: as the field
  needed_by  TEXT NOT NULL,
  reason     TEXT NOT NULL,
  person_id  INTEGER NOT NULL,
  author     TEXT NOT NULL,
  at         INTEGER NOT NULL,
  state      TEXT NOT NULL, -- open, granted, countered, declined, withdrawn
  decided_by TEXT NOT NULL DEFAULT '',
  decided    INTEGER NOT NULL DEFAULT 0,
  decision   TEXT NOT NULL DEFAULT '', -- what was said with it
  revision   INTEGER NOT NULL DEFAULT 0
) STRICT;
CREATE INDEX requests_state ON requests(state, id DESC);
