-- Stable public links to the picture of a relay. The name is the alias in the address.
CREATE TABLE signpost (
    id INTEGER PRIMARY KEY,
    name TEXT NOT NULL UNIQUE COLLATE NOCASE,
    title TEXT NOT NULL,
    relay INTEGER NOT NULL REFERENCES relay (id),
    -- The page plays the picture itself.
    player INTEGER NOT NULL,
    paused INTEGER NOT NULL DEFAULT 0,
    -- Search engines are asked not to list it.
    unlisted INTEGER NOT NULL,
    -- There is a page with the availability of today.
    status_page INTEGER NOT NULL,
    max_viewers INTEGER NOT NULL,
    -- Maximum bytes to viewers in a day; NULL for no limit.
    daily_bytes INTEGER,
    created_s INTEGER NOT NULL,
    uid TEXT,
    revision INTEGER NOT NULL DEFAULT 1
) STRICT;

CREATE TRIGGER signpost_uid AFTER INSERT ON signpost BEGIN
    UPDATE signpost SET uid = lower(hex(randomblob(8))) WHERE id = NEW.id;
END;
CREATE TRIGGER signpost_revision AFTER UPDATE OF name, title, relay, player, paused, unlisted, status_page, max_viewers,
    daily_bytes ON signpost BEGIN
    UPDATE signpost SET revision = revision + 1 WHERE id = NEW.id;
END;

-- Destinations whose watch pages it leads to, the one to be preferred first; none for all of the relay.
CREATE TABLE signpost_destination (
    signpost INTEGER NOT NULL REFERENCES signpost (id) ON DELETE CASCADE,
    position INTEGER NOT NULL,
    destination INTEGER NOT NULL REFERENCES destination (id) ON DELETE CASCADE,
    PRIMARY KEY (signpost, position),
    UNIQUE (signpost, destination)
) STRICT, WITHOUT ROWID;

-- Bytes that viewers have received, and viewers, by day.
CREATE TABLE signpost_traffic (
    day TEXT NOT NULL,
    signpost INTEGER NOT NULL REFERENCES signpost (id) ON DELETE CASCADE,
    bytes INTEGER NOT NULL,
    viewers INTEGER NOT NULL,
    PRIMARY KEY (day, signpost)
) STRICT, WITHOUT ROWID;
