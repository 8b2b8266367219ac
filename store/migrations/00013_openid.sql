-- +goose Up
ALTER TABLE people ADD COLUMN subject TEXT NOT NULL DEFAULT ''; -- issuer and subject of who signs in with a provider, with a blank between
CREATE UNIQUE INDEX people_subject ON people(subject) WHERE subject <> '';
