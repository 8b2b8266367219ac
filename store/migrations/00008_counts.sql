-- +goose Up
CREATE TABLE finding_counts ( -- how many findings there are, kept by triggers
  endpoint_id TEXT NOT NULL,
  kind        TEXT NOT NULL,
  service_id  INTEGER NOT NULL,
  state       TEXT NOT NULL,
  severity    INTEGER NOT NULL,
  n           INTEGER NOT NULL,
  PRIMARY KEY (endpoint_id, kind, state, severity)
) STRICT, WITHOUT ROWID;
INSERT INTO finding_counts SELECT endpoint_id, kind, service_id, state, severity, count(*) FROM findings GROUP BY endpoint_id, kind, state, severity;

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

-- lists in their order, down to what tells equal ones apart
DROP INDEX findings_state;
DROP INDEX findings_severity;
CREATE INDEX findings_state ON findings(state, severity DESC, last_seen DESC, id);
CREATE INDEX findings_severity ON findings(severity DESC, last_seen DESC, id, state);
CREATE INDEX findings_last_seen ON findings(last_seen DESC, id, state);
CREATE INDEX findings_path ON findings(path, last_seen DESC, id, state);
CREATE INDEX findings_holder ON findings(iif(assigned_team = '', team, assigned_team), severity DESC, last_seen DESC, id, state);

-- words anywhere in these, by their trigrams
CREATE VIRTUAL TABLE finding_words USING fts5(endpoint, path, entity, field, content='findings', content_rowid='rowid', tokenize='trigram', detail='none');
INSERT INTO finding_words (finding_words) VALUES ('rebuild');
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
