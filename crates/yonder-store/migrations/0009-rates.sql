-- Rates by the minute, an hour a row: sixty numbers of four bytes, little end first; all bits set where nothing was
-- measured.
CREATE TABLE rate (
    kind TEXT NOT NULL CHECK (kind IN ('feed', 'push')),
    name TEXT NOT NULL,
    part TEXT NOT NULL DEFAULT '',
    hour_s INTEGER NOT NULL,
    kbps BLOB NOT NULL,
    PRIMARY KEY (kind, name, part, hour_s)
) STRICT, WITHOUT ROWID;
