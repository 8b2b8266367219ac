-- +goose Up
ALTER TABLE trail ADD COLUMN person_id INTEGER NOT NULL DEFAULT 0; -- who did it; 0 for a stranger, a command on the machine and the service itself
ALTER TABLE trail ADD COLUMN email TEXT NOT NULL DEFAULT ''; -- the person's address at that time
ALTER TABLE trail ADD COLUMN by_key TEXT NOT NULL DEFAULT ''; -- the session or token with its id, as in "token 4"
ALTER TABLE trail ADD COLUMN edition INTEGER NOT NULL DEFAULT 1; -- what its hash is made of: 2 covers the columns above
CREATE INDEX trail_person ON trail(person_id, id);
CREATE INDEX trail_action ON trail(action, id);
