-- +goose Up
CREATE INDEX captures_incomplete ON captures(batch_id) WHERE incomplete <> '' AND skipped = ''; -- few are; batches count them
