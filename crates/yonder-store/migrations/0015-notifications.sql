-- Notifications that have not been delivered yet.
CREATE TABLE notification (
    number INTEGER PRIMARY KEY,
    receiver INTEGER NOT NULL REFERENCES receiver (id) ON DELETE CASCADE,
    kind TEXT NOT NULL,
    alert TEXT NOT NULL,
    subject TEXT NOT NULL,
    message TEXT NOT NULL,
    raised_ms INTEGER NOT NULL,
    at_ms INTEGER NOT NULL
) STRICT;

-- Hours from one sign of life to the next; NULL sends none.
ALTER TABLE receiver ADD COLUMN sign_of_life_h INTEGER;
-- Until when the alert notifies nobody.
ALTER TABLE alert ADD COLUMN muted_until_ms INTEGER;
-- A person has taken note: it is not repeated.
ALTER TABLE open_alert ADD COLUMN is_acknowledged INTEGER NOT NULL DEFAULT 0;
