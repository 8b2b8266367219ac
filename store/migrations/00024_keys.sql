-- +goose NO TRANSACTION
-- +goose Up
PRAGMA foreign_keys = OFF; -- a table that others refer to is made anew
BEGIN IMMEDIATE;
CREATE TABLE findings_made_anew (
  nr          INTEGER PRIMARY KEY, -- that the index of words goes by
  id          TEXT NOT NULL UNIQUE, -- the fingerprint
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
  last_seen   INTEGER NOT NULL,
  granted_in INTEGER NOT NULL DEFAULT 0,
  person_id INTEGER NOT NULL DEFAULT 0,
  assigned_team TEXT NOT NULL DEFAULT '',
  due TEXT NOT NULL DEFAULT '',
  version INTEGER NOT NULL DEFAULT 0,
  approver TEXT NOT NULL DEFAULT '',
  asked_until TEXT NOT NULL DEFAULT '',
  asked_by INTEGER NOT NULL DEFAULT 0,
  asked_to TEXT NOT NULL DEFAULT '',
  waived_at INTEGER NOT NULL DEFAULT -1,
  shown INTEGER NOT NULL DEFAULT 0,
  proven INTEGER NOT NULL DEFAULT 0,
  proof INTEGER NOT NULL DEFAULT 0,
  doubt TEXT NOT NULL DEFAULT ''
) STRICT;
INSERT INTO findings_made_anew SELECT rowid, * FROM findings ORDER BY rowid;
DROP TABLE findings;
ALTER TABLE findings_made_anew RENAME TO findings;
CREATE INDEX findings_endpoint ON findings(endpoint_id, state);
CREATE INDEX findings_field ON findings(entity, field) WHERE field <> '';
CREATE INDEX findings_awaiting ON findings(service_id) WHERE state = 'awaiting-proof';
CREATE INDEX findings_person ON findings(person_id, state);
CREATE INDEX findings_due ON findings(due, state) WHERE due <> '';
CREATE INDEX findings_state ON findings(state, severity DESC, last_seen DESC, id);
CREATE INDEX findings_severity ON findings(severity DESC, last_seen DESC, id, state);
CREATE INDEX findings_last_seen ON findings(last_seen DESC, id, state);
CREATE INDEX findings_path ON findings(path, last_seen DESC, id, state);
CREATE INDEX findings_holder ON findings(iif(assigned_team = '', team, assigned_team), severity DESC, last_seen DESC, id, state);
CREATE INDEX findings_waived ON findings(until) WHERE state = 'waived';
CREATE INDEX findings_kind ON findings(kind, last_seen DESC, id, state);
CREATE INDEX findings_endpoint_text ON findings(endpoint, last_seen DESC, id, state);
CREATE INDEX findings_spots ON findings(spots DESC, last_seen DESC, id, state);
CREATE INDEX findings_bytes ON findings(bytes DESC, last_seen DESC, id, state);
CREATE INDEX findings_due_day ON findings(iif(due = '', '9999', due), last_seen DESC, id, state);
CREATE INDEX findings_first_seen ON findings(first_seen, last_seen DESC, id, state);
CREATE INDEX findings_asked ON findings(asked_to) WHERE asked_to <> '';
CREATE INDEX findings_doubt ON findings(id) WHERE doubt <> '';
-- +goose StatementBegin
CREATE TRIGGER findings_counted AFTER INSERT ON findings BEGIN
  INSERT INTO finding_counts VALUES (new.endpoint_id, new.kind, new.service_id, new.state, new.severity, 1) ON CONFLICT DO UPDATE SET n = n + 1;
END;
-- +goose StatementEnd
-- +goose StatementBegin
CREATE TRIGGER findings_uncounted AFTER DELETE ON findings BEGIN
  UPDATE finding_counts SET n = n - 1 WHERE endpoint_id = old.endpoint_id AND kind = old.kind AND state = old.state AND severity = old.severity;
END;
-- +goose StatementEnd
-- +goose StatementBegin
CREATE TRIGGER findings_recounted AFTER UPDATE OF state, severity ON findings WHEN old.state <> new.state OR old.severity <> new.severity BEGIN
  UPDATE finding_counts SET n = n - 1 WHERE endpoint_id = old.endpoint_id AND kind = old.kind AND state = old.state AND severity = old.severity;
  INSERT INTO finding_counts VALUES (new.endpoint_id, new.kind, new.service_id, new.state, new.severity, 1) ON CONFLICT DO UPDATE SET n = n + 1;
END;
-- +goose StatementEnd
-- +goose StatementBegin
CREATE TRIGGER findings_worded AFTER INSERT ON findings BEGIN
  INSERT INTO finding_words (rowid, endpoint, path, entity, field) VALUES (new.rowid, new.endpoint, new.path, new.entity, new.field);
END;
-- +goose StatementEnd
-- +goose StatementBegin
CREATE TRIGGER findings_unworded AFTER DELETE ON findings BEGIN
  INSERT INTO finding_words (finding_words, rowid, endpoint, path, entity, field) VALUES ('delete', old.rowid, old.endpoint, old.path, old.entity, old.field);
END;
-- +goose StatementEnd
-- +goose StatementBegin
CREATE TRIGGER findings_reworded AFTER UPDATE OF endpoint, path, entity, field ON findings WHEN old.entity <> new.entity OR old.field <> new.field OR old.endpoint <> new.endpoint OR old.path <> new.path BEGIN
  INSERT INTO finding_words (finding_words, rowid, endpoint, path, entity, field) VALUES ('delete', old.rowid, old.endpoint, old.path, old.entity, old.field);
  INSERT INTO finding_words (rowid, endpoint, path, entity, field) VALUES (new.rowid, new.endpoint, new.path, new.entity, new.field);
END;
-- +goose StatementEnd
-- +goose StatementBegin
CREATE TRIGGER findings_version AFTER UPDATE OF state, until, asked_to, asked_until, person_id, assigned_team, due ON findings BEGIN
  UPDATE findings SET version = version + 1 WHERE id = new.id;
END;
-- +goose StatementEnd
-- +goose StatementBegin
CREATE TRIGGER findings_moved AFTER UPDATE OF endpoint_id ON findings WHEN old.endpoint_id <> new.endpoint_id BEGIN
  UPDATE finding_counts SET n = n - 1 WHERE endpoint_id = old.endpoint_id AND kind = old.kind AND state = old.state AND severity = old.severity;
  INSERT INTO finding_counts VALUES (new.endpoint_id, new.kind, new.service_id, new.state, new.severity, 1) ON CONFLICT DO UPDATE SET n = n + 1;
END;
-- +goose StatementEnd
COMMIT;
PRAGMA foreign_keys = ON;
