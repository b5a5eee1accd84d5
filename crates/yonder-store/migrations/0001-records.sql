CREATE TABLE feed (
    id INTEGER PRIMARY KEY,
    name TEXT NOT NULL UNIQUE COLLATE NOCASE,
    url TEXT NOT NULL,
    sub_url TEXT,
    transport TEXT NOT NULL CHECK (transport IN ('auto', 'tcp', 'udp')),
    user TEXT,
    password BLOB,
    created_s INTEGER NOT NULL
) STRICT;

CREATE TABLE destination (
    id INTEGER PRIMARY KEY,
    name TEXT NOT NULL UNIQUE COLLATE NOCASE,
    server TEXT NOT NULL,
    platform TEXT,
    key BLOB NOT NULL,
    key_set_s INTEGER NOT NULL,
    created_s INTEGER NOT NULL
) STRICT;

CREATE TABLE relay (
    id INTEGER PRIMARY KEY,
    name TEXT NOT NULL UNIQUE COLLATE NOCASE,
    feed INTEGER NOT NULL REFERENCES feed (id),
    wanted TEXT NOT NULL CHECK (wanted IN ('on', 'off', 'hold')),
    created_s INTEGER NOT NULL
) STRICT;

CREATE TABLE relay_destination (
    relay INTEGER NOT NULL REFERENCES relay (id) ON DELETE CASCADE,
    position INTEGER NOT NULL,
    destination INTEGER NOT NULL REFERENCES destination (id),
    PRIMARY KEY (relay, position),
    UNIQUE (relay, destination)
) STRICT, WITHOUT ROWID;

CREATE TABLE person (
    id INTEGER PRIMARY KEY,
    name TEXT NOT NULL UNIQUE COLLATE NOCASE,
    password_hash TEXT NOT NULL,
    created_s INTEGER NOT NULL
) STRICT;

CREATE TABLE session (
    token_hash BLOB PRIMARY KEY,
    person INTEGER NOT NULL REFERENCES person (id) ON DELETE CASCADE,
    csrf TEXT NOT NULL,
    expires_s INTEGER NOT NULL
) STRICT, WITHOUT ROWID;
