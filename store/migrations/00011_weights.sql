-- +goose Up
CREATE TABLE weights ( -- what captures weighed by day, kept by triggers
  endpoint_id TEXT NOT NULL,
  audience    TEXT NOT NULL,
  day         TEXT NOT NULL, -- UTC, of the call
  captures    INTEGER NOT NULL,
  bytes       INTEGER NOT NULL,
  excess      INTEGER NOT NULL,
  PRIMARY KEY (endpoint_id, audience, day)
) STRICT, WITHOUT ROWID;
INSERT INTO weights SELECT endpoint_id, audience, date(started / 1000, 'unixepoch'), count(*), sum(bytes), sum(excess) FROM captures WHERE skipped = '' GROUP BY 1, 2, 3;

-- +goose StatementBegin
CREATE TRIGGER captures_weighed AFTER INSERT ON captures WHEN new.skipped = '' BEGIN
  INSERT INTO weights VALUES (new.endpoint_id, new.audience, date(new.started / 1000, 'unixepoch'), 1, new.bytes, new.excess)
    ON CONFLICT DO UPDATE SET captures = captures + 1, bytes = bytes + excluded.bytes, excess = excess + excluded.excess;
END;
-- +goose StatementEnd
-- +goose StatementBegin
CREATE TRIGGER captures_unweighed AFTER DELETE ON captures WHEN old.skipped = '' BEGIN
  UPDATE weights SET captures = captures - 1, bytes = bytes - old.bytes, excess = excess - old.excess
    WHERE endpoint_id = old.endpoint_id AND audience = old.audience AND day = date(old.started / 1000, 'unixepoch');
END;
-- +goose StatementEnd
-- +goose StatementBegin
CREATE TRIGGER captures_reweighed AFTER UPDATE OF endpoint_id, audience, bytes, excess, skipped ON captures BEGIN
  UPDATE weights SET captures = captures - 1, bytes = bytes - old.bytes, excess = excess - old.excess
    WHERE old.skipped = '' AND endpoint_id = old.endpoint_id AND audience = old.audience AND day = date(old.started / 1000, 'unixepoch');
  INSERT INTO weights SELECT new.endpoint_id, new.audience, date(new.started / 1000, 'unixepoch'), 1, new.bytes, new.excess WHERE new.skipped = ''
    ON CONFLICT DO UPDATE SET captures = captures + 1, bytes = bytes + excluded.bytes, excess = excess + excluded.excess;
END;
-- +goose StatementEnd

-- sorted lists of many findings
CREATE INDEX findings_kind ON findings(kind, last_seen DESC, id, state);
CREATE INDEX findings_endpoint_text ON findings(endpoint, last_seen DESC, id, state);
CREATE INDEX findings_spots ON findings(spots DESC, last_seen DESC, id, state);
CREATE INDEX findings_bytes ON findings(bytes DESC, last_seen DESC, id, state);
CREATE INDEX findings_due_day ON findings(iif(due = '', '9999', due), last_seen DESC, id, state);
CREATE INDEX findings_first_seen ON findings(first_seen, last_seen DESC, id, state);

-- and of many captures; those of the newest batch in the order in which they were recorded
DROP INDEX captures_newest;
CREATE INDEX captures_newest ON captures(batch_id DESC, id);
CREATE INDEX captures_audience ON captures(audience, status, batch_id, id);
CREATE INDEX captures_status ON captures(status, batch_id, id);
CREATE INDEX captures_bytes ON captures(bytes DESC, id DESC);
CREATE INDEX captures_excess ON captures(excess DESC, id DESC);
CREATE INDEX captures_findings ON captures(findings DESC, id DESC);
CREATE INDEX captures_recorded ON captures(started DESC, id DESC);
