-- +goose Up
ALTER TABLE people ADD COLUMN mail TEXT NOT NULL DEFAULT 'daily'; -- at-once, daily or never
ALTER TABLE people ADD COLUMN mailed INTEGER NOT NULL DEFAULT 0; -- notices up to this one were mailed, or are not to be
ALTER TABLE people ADD COLUMN digest TEXT NOT NULL DEFAULT ''; -- the day of the last digest

CREATE TABLE mails (
  id        INTEGER PRIMARY KEY,
  person_id INTEGER NOT NULL REFERENCES people(id) ON DELETE CASCADE,
  subject   TEXT NOT NULL,
  text      TEXT NOT NULL,
  made      INTEGER NOT NULL,
  tries     INTEGER NOT NULL DEFAULT 0,
  next      INTEGER NOT NULL, -- when it is tried next; 0 is not any more
  done      INTEGER NOT NULL DEFAULT 0, -- when it was taken
  said      TEXT NOT NULL DEFAULT '' -- what came of the last try
) STRICT;
CREATE INDEX mails_next ON mails(next) WHERE next > 0;

CREATE TABLE view_follows ( -- who wants to be told of what comes into a view
  person_id  INTEGER NOT NULL REFERENCES people(id) ON DELETE CASCADE,
  view_id    INTEGER NOT NULL REFERENCES views(id) ON DELETE CASCADE,
  last_event INTEGER NOT NULL, -- events up to this one are looked at
  PRIMARY KEY (person_id, view_id)
) STRICT, WITHOUT ROWID;
ALTER TABLE notices ADD COLUMN view_id INTEGER NOT NULL DEFAULT 0;
