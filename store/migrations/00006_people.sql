-- +goose Up
ALTER TABLE people ADD COLUMN active INTEGER NOT NULL DEFAULT 1;
ALTER TABLE people ADD COLUMN factor BLOB; -- sealed secret of the second factor
ALTER TABLE people ADD COLUMN factor_on INTEGER NOT NULL DEFAULT 0; -- it was confirmed with a code
ALTER TABLE people ADD COLUMN factor_step INTEGER NOT NULL DEFAULT 0; -- the time step of the last code that was used

CREATE TABLE recovery_codes ( -- hashed; each works once in place of a code
  hash      TEXT PRIMARY KEY,
  person_id INTEGER NOT NULL REFERENCES people(id) ON DELETE CASCADE
) STRICT;
CREATE INDEX recovery_codes_person ON recovery_codes(person_id);
