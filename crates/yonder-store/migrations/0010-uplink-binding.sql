-- What binds a connection to an uplink: an address of this machine, or a network interface.
ALTER TABLE uplink ADD COLUMN source TEXT;
ALTER TABLE uplink ADD COLUMN interface TEXT CHECK (interface IS NULL OR source IS NULL);

-- Uplinks that a destination's pushes leave by, the one to be preferred first.
CREATE TABLE destination_uplink (
    destination INTEGER NOT NULL REFERENCES destination (id) ON DELETE CASCADE,
    position INTEGER NOT NULL,
    uplink INTEGER NOT NULL REFERENCES uplink (id),
    PRIMARY KEY (destination, position),
    UNIQUE (destination, uplink)
) STRICT, WITHOUT ROWID;

-- Bytes are counted for uplinks as well.
CREATE TABLE traffic_by_uplink (
    day TEXT NOT NULL,
    kind TEXT NOT NULL CHECK (kind IN ('feed', 'push', 'uplink')),
    subject TEXT NOT NULL,
    bytes INTEGER NOT NULL,
    PRIMARY KEY (day, kind, subject)
) STRICT, WITHOUT ROWID;
INSERT INTO traffic_by_uplink SELECT day, kind, subject, bytes FROM traffic;
DROP TABLE traffic;
ALTER TABLE traffic_by_uplink RENAME TO traffic;
