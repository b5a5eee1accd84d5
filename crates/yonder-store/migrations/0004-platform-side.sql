ALTER TABLE destination ADD COLUMN backup_server TEXT;
ALTER TABLE destination ADD COLUMN return_after_s INTEGER NOT NULL DEFAULT 120;
ALTER TABLE destination ADD COLUMN watch_page TEXT;
ALTER TABLE destination ADD COLUMN authority TEXT;
ALTER TABLE destination ADD COLUMN key_kind TEXT NOT NULL DEFAULT 'reusable'
    CHECK (key_kind IN ('reusable', 'one-broadcast'));
ALTER TABLE destination ADD COLUMN key_expires_s INTEGER;
ALTER TABLE destination ADD COLUMN key_rolls INTEGER NOT NULL DEFAULT 0;
-- When a broadcast was first live under the key that is set.
ALTER TABLE destination ADD COLUMN key_used_s INTEGER;
ALTER TABLE destination ADD COLUMN passphrase BLOB;
ALTER TABLE destination ADD COLUMN passphrase_set_s INTEGER;
ALTER TABLE destination ADD COLUMN key_bits INTEGER NOT NULL DEFAULT 128 CHECK (key_bits IN (128, 192, 256));

ALTER TABLE feed ADD COLUMN site TEXT;

-- When a preflight last let the relay start; empty since it, its feed or a destination changed.
ALTER TABLE relay ADD COLUMN cleared_s INTEGER;

-- Rule sheets of the user's own; one with the name of a shipped sheet stands in its place.
CREATE TABLE platform (
    id INTEGER PRIMARY KEY,
    name TEXT NOT NULL UNIQUE COLLATE NOCASE,
    -- As JSON: read and written as a whole, and never searched.
    rules TEXT NOT NULL,
    created_s INTEGER NOT NULL
) STRICT;

CREATE TABLE uplink (
    id INTEGER PRIMARY KEY,
    name TEXT NOT NULL UNIQUE COLLATE NOCASE,
    -- Empty for the machine that the service runs on.
    site TEXT COLLATE NOCASE,
    up_kbps INTEGER NOT NULL CHECK (up_kbps > 0),
    headroom_percent INTEGER NOT NULL CHECK (headroom_percent BETWEEN 0 AND 90),
    allowance_bytes INTEGER CHECK (allowance_bytes > 0),
    role TEXT NOT NULL CHECK (role IN ('main', 'backup')),
    created_s INTEGER NOT NULL
) STRICT;

-- Bytes per day: of each feed, and of each push by relay and destination.
CREATE TABLE traffic (
    day TEXT NOT NULL,
    kind TEXT NOT NULL CHECK (kind IN ('feed', 'push')),
    subject TEXT NOT NULL,
    bytes INTEGER NOT NULL,
    PRIMARY KEY (day, kind, subject)
) STRICT, WITHOUT ROWID;

-- What people did that others may ask about later.
CREATE TABLE deed (
    id INTEGER PRIMARY KEY,
    at_s INTEGER NOT NULL,
    who TEXT NOT NULL,
    what TEXT NOT NULL,
    subject TEXT NOT NULL,
    detail TEXT NOT NULL
) STRICT;
