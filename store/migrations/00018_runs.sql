-- +goose Up
ALTER TABLE batches ADD COLUMN known TEXT NOT NULL DEFAULT '{}'; -- what only the whole batch tells of its values and names, as JSON
