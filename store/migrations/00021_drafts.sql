-- +goose Up
CREATE TABLE drafts ( -- first contracts of services that are not under review yet
	id        INTEGER PRIMARY KEY,
	service   TEXT NOT NULL,
	sources   TEXT NOT NULL, -- what it was drafted from, as JSON
	author    TEXT NOT NULL,
	author_id INTEGER NOT NULL,
	created   INTEGER NOT NULL,
	changed   INTEGER NOT NULL,
	open      INTEGER NOT NULL, -- questions
	answers   TEXT NOT NULL,    -- as JSON
	sealed    BLOB NOT NULL     -- what it is drafted from: no values, but names that a service may hold for its own
);
