-- +goose Up
CREATE TABLE settings (name TEXT PRIMARY KEY, value TEXT NOT NULL) STRICT;

CREATE TABLE people (
  id            INTEGER PRIMARY KEY,
  name          TEXT NOT NULL,
  email         TEXT NOT NULL COLLATE NOCASE UNIQUE,
  role          TEXT NOT NULL CHECK (role IN ('viewer', 'reviewer', 'lead', 'administrator')),
  password      TEXT NOT NULL, -- argon2id in PHC notation; empty until set up
  created       INTEGER NOT NULL
) STRICT;

CREATE TABLE setup_codes ( -- hashed; person_id is null for the first person
  hash      TEXT PRIMARY KEY,
  person_id INTEGER REFERENCES people(id) ON DELETE CASCADE,
  expires   INTEGER NOT NULL
) STRICT;

CREATE TABLE keys ( -- sessions of browsers and tokens of programs, hashed
  id        INTEGER PRIMARY KEY,
  hash      TEXT NOT NULL UNIQUE,
  kind      TEXT NOT NULL CHECK (kind IN ('session', 'token')),
  person_id INTEGER NOT NULL REFERENCES people(id) ON DELETE CASCADE,
  name      TEXT NOT NULL,
  created   INTEGER NOT NULL,
  expires   INTEGER NOT NULL,
  last_used INTEGER NOT NULL DEFAULT 0
) STRICT;
CREATE INDEX keys_person ON keys(person_id, kind);

CREATE TABLE services (
  id      INTEGER PRIMARY KEY,
  name    TEXT NOT NULL UNIQUE,
  created INTEGER NOT NULL
) STRICT;

CREATE TABLE revisions ( -- of a service's contracts; the greatest number is in force
  service_id INTEGER NOT NULL REFERENCES services(id),
  number     INTEGER NOT NULL,
  files      TEXT NOT NULL, -- JSON: [{name, text}]
  author     TEXT NOT NULL,
  reason     TEXT NOT NULL,
  created    INTEGER NOT NULL,
  endpoints  INTEGER NOT NULL,
  PRIMARY KEY (service_id, number)
) STRICT;

CREATE TABLE endpoints (
  id         TEXT PRIMARY KEY, -- from service and text, so that links stay
  service_id INTEGER NOT NULL REFERENCES services(id),
  text       TEXT NOT NULL,
  team       TEXT NOT NULL,
  known      INTEGER NOT NULL, -- whether a contract has it
  captures   INTEGER NOT NULL DEFAULT 0,
  bytes      INTEGER NOT NULL DEFAULT 0,
  excess     INTEGER NOT NULL DEFAULT 0,
  last_seen  INTEGER NOT NULL DEFAULT 0
) STRICT;
CREATE INDEX endpoints_service ON endpoints(service_id);

CREATE TABLE batches (
  id           INTEGER PRIMARY KEY AUTOINCREMENT,
  service_id   INTEGER NOT NULL REFERENCES services(id),
  name         TEXT NOT NULL,
  digest       TEXT NOT NULL, -- SHA-256 of the recording; empty until it is in
  audience     TEXT NOT NULL,
  author       TEXT NOT NULL,
  started      INTEGER NOT NULL,
  done         INTEGER NOT NULL DEFAULT 0, -- only then anybody sees it
  captures     INTEGER NOT NULL DEFAULT 0,
  judged       INTEGER NOT NULL DEFAULT 0,
  skipped      INTEGER NOT NULL DEFAULT 0,
  bytes        INTEGER NOT NULL DEFAULT 0,
  excess       INTEGER NOT NULL DEFAULT 0,
  findings     INTEGER NOT NULL DEFAULT 0,
  new_findings INTEGER NOT NULL DEFAULT 0,
  by_severity  TEXT NOT NULL DEFAULT '{}', -- JSON
  skip_reasons TEXT NOT NULL DEFAULT '[]', -- JSON
  problem      TEXT NOT NULL DEFAULT ''
) STRICT;
CREATE UNIQUE INDEX batches_digest ON batches(service_id, digest, audience) WHERE digest <> '';

CREATE TABLE captures (
  id          INTEGER PRIMARY KEY AUTOINCREMENT,
  batch_id    INTEGER NOT NULL REFERENCES batches(id) ON DELETE CASCADE,
  entry       INTEGER NOT NULL,
  endpoint_id TEXT NOT NULL,
  method      TEXT NOT NULL,
  url         TEXT NOT NULL, -- masked
  audience    TEXT NOT NULL,
  audience_by TEXT NOT NULL,
  status      INTEGER NOT NULL,
  started     INTEGER NOT NULL,
  bytes       INTEGER NOT NULL,
  excess      INTEGER NOT NULL,
  findings    INTEGER NOT NULL,
  skipped     TEXT NOT NULL,
  sealed      BLOB NOT NULL -- headers and bodies, encrypted
) STRICT;
CREATE INDEX captures_batch ON captures(batch_id, entry);
CREATE INDEX captures_endpoint ON captures(endpoint_id, id);

CREATE TABLE findings (
  id          TEXT PRIMARY KEY, -- the fingerprint
  service_id  INTEGER NOT NULL REFERENCES services(id),
  kind        TEXT NOT NULL,
  severity    INTEGER NOT NULL, -- 1 info to 5 critical
  endpoint    TEXT NOT NULL,
  endpoint_id TEXT NOT NULL,
  team        TEXT NOT NULL,
  audience    TEXT NOT NULL,
  audience_by TEXT NOT NULL,
  direction   TEXT NOT NULL,
  status      TEXT NOT NULL,
  path        TEXT NOT NULL,
  entity      TEXT NOT NULL,
  field       TEXT NOT NULL,
  class       TEXT NOT NULL,
  spots       INTEGER NOT NULL,
  captures    INTEGER NOT NULL,
  bytes       INTEGER NOT NULL,
  sample      TEXT NOT NULL, -- masked
  why         TEXT NOT NULL,
  grant_file  TEXT NOT NULL,
  grant_line  INTEGER NOT NULL,
  excepted    TEXT NOT NULL, -- the reason of the exception
  state       TEXT NOT NULL,
  until       TEXT NOT NULL, -- the last day of a waiver
  first_seen  INTEGER NOT NULL,
  last_seen   INTEGER NOT NULL
) STRICT;
CREATE INDEX findings_state ON findings(state, severity DESC, last_seen DESC);
CREATE INDEX findings_severity ON findings(severity DESC, last_seen DESC);
CREATE INDEX findings_endpoint ON findings(endpoint_id, state);
CREATE INDEX findings_field ON findings(entity, field) WHERE field <> '';

CREATE TABLE occurrences ( -- the first spot of a finding in each capture that shows it
  finding_id TEXT NOT NULL,
  capture_id INTEGER NOT NULL REFERENCES captures(id) ON DELETE CASCADE,
  pointer    TEXT NOT NULL,
  at         INTEGER NOT NULL,
  bytes      INTEGER NOT NULL,
  spots      INTEGER NOT NULL,
  PRIMARY KEY (finding_id, capture_id)
) STRICT, WITHOUT ROWID;
CREATE INDEX occurrences_capture ON occurrences(capture_id);

CREATE TABLE events ( -- what happened to a finding
  id         INTEGER PRIMARY KEY,
  finding_id TEXT NOT NULL REFERENCES findings(id) ON DELETE CASCADE,
  at         INTEGER NOT NULL,
  author     TEXT NOT NULL,
  kind       TEXT NOT NULL,
  was        TEXT NOT NULL,
  became     TEXT NOT NULL,
  comment    TEXT NOT NULL,
  until      TEXT NOT NULL,
  batch_id   INTEGER NOT NULL
) STRICT;
CREATE INDEX events_finding ON events(finding_id, id);
CREATE INDEX events_batch ON events(batch_id) WHERE batch_id > 0;
