-- +goose Up
ALTER TABLE services ADD COLUMN in_force INTEGER NOT NULL DEFAULT 0; -- the revision
UPDATE services SET in_force = coalesce((SELECT max(number) FROM revisions WHERE service_id = services.id), 0);
ALTER TABLE revisions ADD COLUMN state TEXT NOT NULL DEFAULT 'taken'; -- taken (it is in force, or was), waiting, declined
ALTER TABLE revisions ADD COLUMN base INTEGER NOT NULL DEFAULT 0; -- the revision that was in force when it was made
ALTER TABLE revisions ADD COLUMN author_id INTEGER NOT NULL DEFAULT 0;
ALTER TABLE revisions ADD COLUMN direction TEXT NOT NULL DEFAULT '';
ALTER TABLE revisions ADD COLUMN reaches TEXT NOT NULL DEFAULT ''; -- the gravest class that more is let out of
ALTER TABLE revisions ADD COLUMN words TEXT NOT NULL DEFAULT '[]'; -- JSON: [{direction, text}]
ALTER TABLE revisions ADD COLUMN decided_by TEXT NOT NULL DEFAULT '';
ALTER TABLE revisions ADD COLUMN decided INTEGER NOT NULL DEFAULT 0;
ALTER TABLE revisions ADD COLUMN decision TEXT NOT NULL DEFAULT ''; -- what was said with it

CREATE TABLE classings ( -- who gave a field its class
  service_id INTEGER NOT NULL REFERENCES services(id),
  entity     TEXT NOT NULL,
  field      TEXT NOT NULL,
  class      TEXT NOT NULL,
  author     TEXT NOT NULL,
  at         INTEGER NOT NULL,
  revision   INTEGER NOT NULL,
  PRIMARY KEY (service_id, entity, field)
) STRICT, WITHOUT ROWID;

CREATE TABLE shown ( -- granted fields that captures have shown
  endpoint_id TEXT NOT NULL,
  audience    TEXT NOT NULL,
  entity      TEXT NOT NULL,
  field       TEXT NOT NULL,
  last_seen   INTEGER NOT NULL,
  PRIMARY KEY (endpoint_id, audience, entity, field)
) STRICT, WITHOUT ROWID;

CREATE TABLE exercised ( -- responses that captures have come to
  endpoint_id TEXT NOT NULL,
  audience    TEXT NOT NULL,
  status      TEXT NOT NULL, -- as the contract has it
  captures    INTEGER NOT NULL,
  last_seen   INTEGER NOT NULL,
  PRIMARY KEY (endpoint_id, audience, status)
) STRICT, WITHOUT ROWID;

CREATE TABLE coverage ( -- how far the contracts and captures of a service reach, once a day
  service_id INTEGER NOT NULL REFERENCES services(id),
  day        TEXT NOT NULL,
  numbers    TEXT NOT NULL, -- JSON
  PRIMARY KEY (service_id, day)
) STRICT, WITHOUT ROWID;

ALTER TABLE findings ADD COLUMN granted_in INTEGER NOT NULL DEFAULT 0; -- the revision that made it no leak
CREATE INDEX captures_newest ON captures(batch_id, id);
ALTER TABLE events ADD COLUMN revision INTEGER NOT NULL DEFAULT 0; -- of the contracts that brought it about
