-- Who is told: a web address or a mail box.
CREATE TABLE receiver (
    id INTEGER PRIMARY KEY,
    name TEXT NOT NULL UNIQUE COLLATE NOCASE,
    -- Where and how, as JSON without any secret.
    settings TEXT NOT NULL,
    -- What web messages are signed with, or the mail server's password; sealed.
    secret BLOB
) STRICT;

-- What they are told of.
CREATE TABLE alert (
    id INTEGER PRIMARY KEY,
    name TEXT NOT NULL UNIQUE COLLATE NOCASE,
    trigger TEXT NOT NULL,
    about TEXT,
    repeat_s INTEGER NOT NULL
) STRICT;

-- Without any, all receivers are told.
CREATE TABLE alert_receiver (
    alert INTEGER NOT NULL REFERENCES alert (id) ON DELETE CASCADE,
    receiver INTEGER NOT NULL REFERENCES receiver (id) ON DELETE CASCADE,
    PRIMARY KEY (alert, receiver)
) STRICT, WITHOUT ROWID;

-- Alerts that go on.
CREATE TABLE open_alert (
    alert TEXT NOT NULL,
    subject TEXT NOT NULL,
    message TEXT NOT NULL,
    raised_ms INTEGER NOT NULL,
    told_ms INTEGER NOT NULL,
    PRIMARY KEY (alert, subject)
) STRICT, WITHOUT ROWID;
