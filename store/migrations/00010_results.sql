-- +goose Up
CREATE TABLE results ( -- what checks of pipelines found
  id         INTEGER PRIMARY KEY AUTOINCREMENT,
  service_id INTEGER NOT NULL REFERENCES services(id),
  line       TEXT NOT NULL, -- of development
  revision   TEXT NOT NULL, -- of the program that was checked
  link       TEXT NOT NULL, -- to the pipeline's own page
  author     TEXT NOT NULL,
  at         INTEGER NOT NULL,
  rules      INTEGER NOT NULL,
  captures   INTEGER NOT NULL,
  judged     INTEGER NOT NULL,
  skipped    INTEGER NOT NULL,
  bytes      INTEGER NOT NULL,
  excess     INTEGER NOT NULL,
  by_severity TEXT NOT NULL, -- JSON: a list of counts, from info
  findings   TEXT NOT NULL -- JSON
) STRICT;
CREATE INDEX results_line ON results(service_id, line, id DESC);
ALTER TABLE services ADD COLUMN main_line TEXT NOT NULL DEFAULT 'main'; -- that others are compared with
