-- Device service of a feed's camera, and changes of its encoder settings that can be undone.
ALTER TABLE feed ADD COLUMN device TEXT;
CREATE TABLE tuning (
    id INTEGER PRIMARY KEY,
    feed INTEGER NOT NULL REFERENCES feed (id) ON DELETE CASCADE,
    at_s INTEGER NOT NULL,
    -- Format before the change, as JSON.
    before TEXT NOT NULL
) STRICT;
CREATE INDEX tuning_feed ON tuning (feed);
