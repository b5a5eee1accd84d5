-- Identity of what the history is about. It outlives renames and the removal of the record.
CREATE TABLE subject (
    id INTEGER PRIMARY KEY,
    kind TEXT NOT NULL CHECK (kind IN ('feed', 'push', 'relay', 'uplink')),
    -- Stable id of the record; of a push that of its relay.
    uid TEXT NOT NULL,
    -- Stable id of the destination of a push.
    part_uid TEXT NOT NULL DEFAULT '',
    -- Present names, or the last ones.
    name TEXT NOT NULL COLLATE NOCASE,
    part TEXT NOT NULL DEFAULT '' COLLATE NOCASE,
    UNIQUE (kind, uid, part_uid)
) STRICT;
CREATE INDEX subject_name ON subject (kind, name, part);

-- Names that records had before, each with the last record that had it.
CREATE TABLE former_name (
    kind TEXT NOT NULL,
    name TEXT NOT NULL COLLATE NOCASE,
    uid TEXT NOT NULL,
    PRIMARY KEY (kind, name)
) STRICT, WITHOUT ROWID;

INSERT OR IGNORE INTO subject (kind, uid, part_uid, name, part)
    SELECT kind,
        COALESCE(
            CASE kind
                WHEN 'feed' THEN (SELECT uid FROM feed WHERE feed.name = old.name)
                WHEN 'uplink' THEN (SELECT uid FROM uplink WHERE uplink.name = old.name)
                ELSE (SELECT uid FROM relay WHERE relay.name = old.name)
            END,
            'former:' || name
        ),
        CASE kind
            WHEN 'push'
                THEN COALESCE((SELECT uid FROM destination WHERE destination.name = old.part), 'former:' || part)
            ELSE ''
        END,
        name,
        part
    FROM (
        SELECT kind, name, part FROM run
        UNION SELECT kind, name, part FROM outage
        UNION SELECT kind, name, part FROM rate
        UNION SELECT kind,
            CASE kind WHEN 'push' THEN substr(subject, 1, instr(subject, char(10)) - 1) ELSE subject END,
            CASE kind WHEN 'push' THEN substr(subject, instr(subject, char(10)) + 1) ELSE '' END
        FROM traffic
    ) AS old;

CREATE TABLE run_of_subject (
    id INTEGER PRIMARY KEY,
    subject INTEGER NOT NULL REFERENCES subject (id),
    begin_ms INTEGER NOT NULL,
    end_ms INTEGER
) STRICT;
INSERT INTO run_of_subject (id, subject, begin_ms, end_ms)
    SELECT run.id, subject.id, begin_ms, end_ms FROM run
    JOIN subject ON subject.kind = run.kind AND subject.name = run.name AND subject.part = run.part;
DROP TABLE run;
ALTER TABLE run_of_subject RENAME TO run;
CREATE INDEX run_end ON run (end_ms);

CREATE TABLE outage_of_subject (
    id INTEGER PRIMARY KEY,
    subject INTEGER NOT NULL REFERENCES subject (id),
    begin_ms INTEGER NOT NULL,
    end_ms INTEGER,
    code TEXT NOT NULL,
    side TEXT NOT NULL,
    message TEXT NOT NULL
) STRICT;
INSERT INTO outage_of_subject (id, subject, begin_ms, end_ms, code, side, message)
    SELECT outage.id, subject.id, begin_ms, end_ms, code, side, message FROM outage
    JOIN subject ON subject.kind = outage.kind AND subject.name = outage.name AND subject.part = outage.part;
DROP TABLE outage;
ALTER TABLE outage_of_subject RENAME TO outage;
CREATE INDEX outage_end ON outage (end_ms);

-- By hours first, so that old ones are removed without a look at the others.
CREATE TABLE rate_of_subject (
    hour_s INTEGER NOT NULL,
    subject INTEGER NOT NULL REFERENCES subject (id),
    kbps BLOB NOT NULL,
    PRIMARY KEY (hour_s, subject)
) STRICT, WITHOUT ROWID;
INSERT OR IGNORE INTO rate_of_subject (hour_s, subject, kbps)
    SELECT hour_s, subject.id, kbps FROM rate
    JOIN subject ON subject.kind = rate.kind AND subject.name = rate.name AND subject.part = rate.part;
DROP TABLE rate;
ALTER TABLE rate_of_subject RENAME TO rate;
CREATE INDEX rate_subject ON rate (subject, hour_s);

CREATE TABLE traffic_of_subject (
    day TEXT NOT NULL,
    subject INTEGER NOT NULL REFERENCES subject (id),
    bytes INTEGER NOT NULL,
    PRIMARY KEY (day, subject)
) STRICT, WITHOUT ROWID;
INSERT INTO traffic_of_subject (day, subject, bytes)
    SELECT day, subject.id, SUM(bytes) FROM traffic
    JOIN subject ON subject.kind = traffic.kind AND CASE traffic.kind
        WHEN 'push' THEN subject.name || char(10) || subject.part = traffic.subject COLLATE NOCASE
        ELSE subject.name = traffic.subject
    END
    GROUP BY day, subject.id;
DROP TABLE traffic;
ALTER TABLE traffic_of_subject RENAME TO traffic;

-- Lines of the logbook keep the name as it was, and the id of the record beside it.
ALTER TABLE logbook ADD COLUMN uid TEXT;
ALTER TABLE logbook ADD COLUMN part_uid TEXT;
