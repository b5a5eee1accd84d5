-- What happened: states with their causes, and what people did.
CREATE TABLE logbook (
    id INTEGER PRIMARY KEY AUTOINCREMENT,
    at_ms INTEGER NOT NULL,
    kind TEXT NOT NULL,
    -- What it is about; of a push its relay.
    name TEXT NOT NULL,
    -- The destination of a push; else empty.
    part TEXT NOT NULL DEFAULT '',
    -- A state, or what was done, as a stable word.
    what TEXT NOT NULL,
    code TEXT,
    side TEXT,
    message TEXT NOT NULL DEFAULT '',
    who TEXT
) STRICT;
CREATE INDEX logbook_at ON logbook (at_ms);

INSERT INTO logbook (at_ms, kind, name, what, message, who)
    SELECT at_s * 1000, CASE what WHEN 'key-revealed' THEN 'destination' ELSE 'relay' END, subject, what, detail, who
    FROM deed ORDER BY id;
DROP TABLE deed;

-- When something should have run; without an end it still should.
CREATE TABLE run (
    id INTEGER PRIMARY KEY,
    kind TEXT NOT NULL CHECK (kind IN ('feed', 'push', 'relay')),
    name TEXT NOT NULL,
    part TEXT NOT NULL DEFAULT '',
    begin_ms INTEGER NOT NULL,
    end_ms INTEGER
) STRICT;
CREATE INDEX run_end ON run (end_ms);

-- When it was down, and why.
CREATE TABLE outage (
    id INTEGER PRIMARY KEY,
    kind TEXT NOT NULL CHECK (kind IN ('feed', 'push', 'relay')),
    name TEXT NOT NULL,
    part TEXT NOT NULL DEFAULT '',
    begin_ms INTEGER NOT NULL,
    end_ms INTEGER,
    code TEXT NOT NULL,
    side TEXT NOT NULL,
    message TEXT NOT NULL
) STRICT;
CREATE INDEX outage_end ON outage (end_ms);

-- When the service last ran, and whether it ended in order.
CREATE TABLE alive (
    id INTEGER PRIMARY KEY CHECK (id = 1),
    at_ms INTEGER NOT NULL,
    in_order INTEGER NOT NULL
) STRICT;
