-- +goose Up
CREATE TABLE credentials_of ( -- with which calls are made again as an audience, by one of several people
  service_id INTEGER NOT NULL REFERENCES services(id),
  audience   TEXT NOT NULL,
  person     TEXT NOT NULL, -- what one of several is called; empty for the first
  names      TEXT NOT NULL, -- of the header fields, JSON
  sealed     BLOB NOT NULL, -- their values, encrypted
  author     TEXT NOT NULL,
  at         INTEGER NOT NULL,
  PRIMARY KEY (service_id, audience, person)
) STRICT, WITHOUT ROWID;
INSERT INTO credentials_of SELECT service_id, audience, '', names, sealed, author, at FROM credentials;
DROP TABLE credentials;
ALTER TABLE credentials_of RENAME TO credentials;
ALTER TABLE captures ADD COLUMN person TEXT NOT NULL DEFAULT ''; -- whose credentials a call was made again with, of several of an audience

CREATE TABLE watches ( -- calls that are made again by the clock
  id         INTEGER PRIMARY KEY AUTOINCREMENT,
  service_id INTEGER NOT NULL REFERENCES services(id),
  name       TEXT NOT NULL,
  person_id  INTEGER NOT NULL, -- whose it is
  callers    TEXT NOT NULL, -- JSON: [{audience, person}]; empty for who made each call
  server     TEXT NOT NULL, -- to which the calls go; empty for their own
  hours      INTEGER NOT NULL, -- from one run to the next
  begins     INTEGER NOT NULL, -- of the day, in minutes UTC, when runs may begin
  ends       INTEGER NOT NULL, -- the same for their end; equal for the whole day
  per_minute INTEGER NOT NULL, -- calls
  paused     INTEGER NOT NULL DEFAULT 0,
  next       INTEGER NOT NULL, -- when it runs next
  failing    TEXT NOT NULL DEFAULT '', -- why its last run failed
  created    INTEGER NOT NULL,
  UNIQUE (service_id, name)
) STRICT;
CREATE INDEX watches_next ON watches(next) WHERE paused = 0;
CREATE TABLE watch_calls (
  watch_id    INTEGER NOT NULL REFERENCES watches(id) ON DELETE CASCADE,
  nth         INTEGER NOT NULL,
  capture_id  INTEGER NOT NULL, -- it was recorded as
  endpoint_id TEXT NOT NULL,
  endpoint    TEXT NOT NULL,
  method      TEXT NOT NULL,
  url         TEXT NOT NULL, -- masked
  audience    TEXT NOT NULL, -- who made it
  audience_by TEXT NOT NULL,
  holds       TEXT NOT NULL,
  sealed      BLOB NOT NULL, -- headers and address, encrypted
  PRIMARY KEY (watch_id, nth)
) STRICT;
CREATE TABLE watch_runs (
  id       INTEGER PRIMARY KEY AUTOINCREMENT,
  watch_id INTEGER NOT NULL REFERENCES watches(id) ON DELETE CASCADE,
  began    INTEGER NOT NULL,
  batch_id INTEGER NOT NULL, -- 0 where no call was made
  calls    INTEGER NOT NULL,
  findings INTEGER NOT NULL,
  failed   TEXT NOT NULL -- why; empty where it did not
) STRICT;
CREATE INDEX watch_runs_watch ON watch_runs(watch_id, id);
