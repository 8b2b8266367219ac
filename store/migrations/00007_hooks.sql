-- +goose Up
CREATE TABLE hooks ( -- addresses that are told of what happens to findings
  id       INTEGER PRIMARY KEY,
  name     TEXT NOT NULL,
  url      TEXT NOT NULL,
  address  TEXT NOT NULL, -- where it is reached, if not where its name leads
  secret   BLOB NOT NULL, -- sealed; what is sent is signed with it
  kinds    TEXT NOT NULL, -- of events, separated by commas; empty is all
  least    INTEGER NOT NULL, -- severity
  service  TEXT NOT NULL, -- name; empty is all
  author   TEXT NOT NULL,
  created  INTEGER NOT NULL,
  last_event INTEGER NOT NULL -- events up to this one are looked at
) STRICT;

CREATE TABLE deliveries (
  id      INTEGER PRIMARY KEY,
  hook_id INTEGER NOT NULL REFERENCES hooks(id) ON DELETE CASCADE,
  event   TEXT NOT NULL, -- the body as it is sent
  kind    TEXT NOT NULL,
  made    INTEGER NOT NULL,
  tries   INTEGER NOT NULL DEFAULT 0,
  next    INTEGER NOT NULL, -- when it is tried next; 0 is not any more
  done    INTEGER NOT NULL DEFAULT 0, -- when it was taken
  said    TEXT NOT NULL DEFAULT '' -- what came of the last try
) STRICT;
CREATE INDEX deliveries_next ON deliveries(next) WHERE next > 0;
CREATE INDEX deliveries_hook ON deliveries(hook_id, id DESC);
