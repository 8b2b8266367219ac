-- +goose Up
ALTER TABLE findings ADD COLUMN asked_to TEXT NOT NULL DEFAULT ''; -- the state that a second person was asked for: waived or not-a-leak
UPDATE findings SET asked_to = 'waived' WHERE asked_until <> '';
ALTER TABLE findings ADD COLUMN waived_at INTEGER NOT NULL DEFAULT -1; -- the severity that its waiver was given for
UPDATE findings SET waived_at = severity WHERE state = 'waived';
DROP INDEX findings_asked;
CREATE INDEX findings_asked ON findings(asked_to) WHERE asked_to <> '';

DROP TRIGGER findings_version;
-- +goose StatementBegin
CREATE TRIGGER findings_version AFTER UPDATE OF state, until, asked_to, asked_until, person_id, assigned_team, due ON findings BEGIN
  UPDATE findings SET version = version + 1 WHERE id = new.id;
END;
-- +goose StatementEnd

CREATE TABLE askings ( -- what somebody wants to do to a recording that takes severe findings off the list; a second person decides
  batch_id  INTEGER PRIMARY KEY REFERENCES batches(id) ON DELETE CASCADE,
  what      TEXT NOT NULL CHECK (what IN ('withdraw', 'correct')),
  say       TEXT NOT NULL, -- who made its requests, as JSON
  person_id INTEGER NOT NULL,
  author    TEXT NOT NULL,
  at        INTEGER NOT NULL,
  reason    TEXT NOT NULL,
  findings  INTEGER NOT NULL
) STRICT;

ALTER TABLE services ADD COLUMN second_person INTEGER NOT NULL DEFAULT 1; -- 0: one person alone decides; for a team of one
