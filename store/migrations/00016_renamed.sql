-- +goose Up
CREATE TABLE renamed ( -- ids that findings had before a revision named parameters otherwise
  was TEXT PRIMARY KEY,
  id  TEXT NOT NULL
) STRICT, WITHOUT ROWID;
CREATE INDEX renamed_id ON renamed(id);

-- +goose StatementBegin
CREATE TRIGGER findings_moved AFTER UPDATE OF endpoint_id ON findings WHEN old.endpoint_id <> new.endpoint_id BEGIN
  UPDATE finding_counts SET n = n - 1 WHERE endpoint_id = old.endpoint_id AND kind = old.kind AND state = old.state AND severity = old.severity;
  INSERT INTO finding_counts VALUES (new.endpoint_id, new.kind, new.service_id, new.state, new.severity, 1) ON CONFLICT DO UPDATE SET n = n + 1;
END;
-- +goose StatementEnd

CREATE TABLE kept ( -- the class of every field that was in force, as it was last
  service_id INTEGER NOT NULL REFERENCES services(id),
  entity     TEXT NOT NULL,
  field      TEXT NOT NULL,
  stored_as  TEXT NOT NULL,
  type       TEXT NOT NULL,
  class      TEXT NOT NULL,
  PRIMARY KEY (service_id, entity, field)
) STRICT, WITHOUT ROWID;

ALTER TABLE results ADD COLUMN compared TEXT NOT NULL DEFAULT ''; -- with what, and what came and went, as JSON: as it was then

ALTER TABLE notices ADD COLUMN service TEXT NOT NULL DEFAULT ''; -- and revision: of the contracts that it is about
ALTER TABLE notices ADD COLUMN revision INTEGER NOT NULL DEFAULT 0;
ALTER TABLE notices ADD COLUMN more INTEGER NOT NULL DEFAULT 0; -- findings that it is about besides

ALTER TABLE captures ADD COLUMN incomplete TEXT NOT NULL DEFAULT ''; -- why a body of it is not whole
