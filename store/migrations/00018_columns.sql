-- +goose Up
ALTER TABLE batches ADD COLUMN chance TEXT NOT NULL DEFAULT '[]'; -- the columns in which check digits count for nothing, as JSON
