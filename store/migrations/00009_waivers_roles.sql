-- +goose Up
ALTER TABLE findings ADD COLUMN approver TEXT NOT NULL DEFAULT ''; -- of its waiver
ALTER TABLE findings ADD COLUMN asked_until TEXT NOT NULL DEFAULT ''; -- the last day of a waiver that waits for approval
ALTER TABLE findings ADD COLUMN asked_by INTEGER NOT NULL DEFAULT 0; -- the person who wants it
CREATE INDEX findings_asked ON findings(asked_until) WHERE asked_until <> '';
CREATE INDEX findings_waived ON findings(until) WHERE state = 'waived';

DROP TRIGGER findings_version;
-- +goose StatementBegin
CREATE TRIGGER findings_version AFTER UPDATE OF state, until, asked_until, person_id, assigned_team, due ON findings BEGIN
  UPDATE findings SET version = version + 1 WHERE id = new.id;
END;
-- +goose StatementEnd

CREATE TABLE service_roles ( -- what somebody is at one service, in place of what they are elsewhere
  person_id  INTEGER NOT NULL REFERENCES people(id) ON DELETE CASCADE,
  service_id INTEGER NOT NULL REFERENCES services(id) ON DELETE CASCADE,
  role       TEXT NOT NULL CHECK (role IN ('viewer', 'reviewer', 'lead')),
  PRIMARY KEY (person_id, service_id)
) STRICT, WITHOUT ROWID;

ALTER TABLE keys ADD COLUMN scope TEXT NOT NULL DEFAULT 'everything'; -- read, record or everything
ALTER TABLE keys ADD COLUMN service_id INTEGER REFERENCES services(id) ON DELETE CASCADE; -- the only one that it may change
