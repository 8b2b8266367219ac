-- +goose Up
ALTER TABLE captures ADD COLUMN refused INTEGER NOT NULL DEFAULT 0; -- 1 for the result of a query that holds errors alone, whatever the status
