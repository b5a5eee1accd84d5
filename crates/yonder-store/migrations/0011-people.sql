-- Who may do what; sessions that can be told apart; invitations and tokens.
ALTER TABLE person ADD COLUMN role TEXT NOT NULL DEFAULT 'keeper' CHECK (role IN ('viewer', 'operator', 'keeper'));

ALTER TABLE session ADD COLUMN begun_s INTEGER NOT NULL DEFAULT 0;
ALTER TABLE session ADD COLUMN seen_s INTEGER NOT NULL DEFAULT 0;
-- Sessions of before last a week.
UPDATE session SET begun_s = expires_s - 604800, seen_s = expires_s - 604800;
-- What the browser says of itself.
ALTER TABLE session ADD COLUMN agent TEXT NOT NULL DEFAULT '';

CREATE TABLE invitation (
    code_hash BLOB PRIMARY KEY,
    name TEXT NOT NULL UNIQUE COLLATE NOCASE,
    role TEXT NOT NULL CHECK (role IN ('viewer', 'operator', 'keeper')),
    made_by TEXT NOT NULL,
    expires_s INTEGER NOT NULL
) STRICT, WITHOUT ROWID;

CREATE TABLE token (
    id INTEGER PRIMARY KEY,
    name TEXT NOT NULL UNIQUE COLLATE NOCASE,
    role TEXT NOT NULL CHECK (role IN ('viewer', 'operator', 'keeper')),
    token_hash BLOB NOT NULL UNIQUE,
    made_by TEXT NOT NULL,
    created_s INTEGER NOT NULL,
    expires_s INTEGER,
    used_s INTEGER
) STRICT;
