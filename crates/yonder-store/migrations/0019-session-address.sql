-- Network address from which a session was begun; empty for sessions of before.
ALTER TABLE session ADD COLUMN address TEXT NOT NULL DEFAULT '';
