-- Every change, with what was there before and after. It has a limit of its own, apart from the logbook's.
CREATE TABLE audit (
    id INTEGER PRIMARY KEY AUTOINCREMENT,
    at_ms INTEGER NOT NULL,
    who TEXT NOT NULL,
    -- Where it was made: console, api, command-line, site-book, schedule or service.
    origin TEXT NOT NULL,
    -- Network address of the caller.
    address TEXT,
    action TEXT NOT NULL,
    kind TEXT NOT NULL,
    -- Name at that time, and the stable id of the record.
    name TEXT NOT NULL,
    uid TEXT,
    -- Fields that changed, as a JSON array, without any secret.
    fields TEXT NOT NULL DEFAULT '[]',
    detail TEXT NOT NULL DEFAULT ''
) STRICT;
CREATE INDEX audit_at ON audit (at_ms);
CREATE INDEX audit_uid ON audit (uid);

-- Stable ids, and revisions that every change of a record raises.
ALTER TABLE feed ADD COLUMN uid TEXT;
ALTER TABLE feed ADD COLUMN revision INTEGER NOT NULL DEFAULT 1;
ALTER TABLE destination ADD COLUMN uid TEXT;
ALTER TABLE destination ADD COLUMN revision INTEGER NOT NULL DEFAULT 1;
ALTER TABLE relay ADD COLUMN uid TEXT;
ALTER TABLE relay ADD COLUMN revision INTEGER NOT NULL DEFAULT 1;
-- Raised by each change of the relay, its feed or a destination that makes its last preflight void.
ALTER TABLE relay ADD COLUMN setup INTEGER NOT NULL DEFAULT 1;
ALTER TABLE person ADD COLUMN uid TEXT;
ALTER TABLE person ADD COLUMN revision INTEGER NOT NULL DEFAULT 1;
ALTER TABLE pattern ADD COLUMN uid TEXT;
ALTER TABLE pattern ADD COLUMN revision INTEGER NOT NULL DEFAULT 1;
ALTER TABLE platform ADD COLUMN uid TEXT;
ALTER TABLE platform ADD COLUMN revision INTEGER NOT NULL DEFAULT 1;
ALTER TABLE uplink ADD COLUMN uid TEXT;
ALTER TABLE uplink ADD COLUMN revision INTEGER NOT NULL DEFAULT 1;
ALTER TABLE receiver ADD COLUMN uid TEXT;
ALTER TABLE receiver ADD COLUMN revision INTEGER NOT NULL DEFAULT 1;
ALTER TABLE alert ADD COLUMN uid TEXT;
ALTER TABLE alert ADD COLUMN revision INTEGER NOT NULL DEFAULT 1;
ALTER TABLE token ADD COLUMN uid TEXT;
ALTER TABLE token ADD COLUMN revision INTEGER NOT NULL DEFAULT 1;

UPDATE feed SET uid = lower(hex(randomblob(8)));
UPDATE destination SET uid = lower(hex(randomblob(8)));
UPDATE relay SET uid = lower(hex(randomblob(8)));
UPDATE person SET uid = lower(hex(randomblob(8)));
UPDATE pattern SET uid = lower(hex(randomblob(8)));
UPDATE platform SET uid = lower(hex(randomblob(8)));
UPDATE uplink SET uid = lower(hex(randomblob(8)));
UPDATE receiver SET uid = lower(hex(randomblob(8)));
UPDATE alert SET uid = lower(hex(randomblob(8)));
UPDATE token SET uid = lower(hex(randomblob(8)));

CREATE TRIGGER feed_uid AFTER INSERT ON feed BEGIN
    UPDATE feed SET uid = lower(hex(randomblob(8))) WHERE id = NEW.id;
END;
CREATE TRIGGER destination_uid AFTER INSERT ON destination BEGIN
    UPDATE destination SET uid = lower(hex(randomblob(8))) WHERE id = NEW.id;
END;
CREATE TRIGGER relay_uid AFTER INSERT ON relay BEGIN
    UPDATE relay SET uid = lower(hex(randomblob(8))) WHERE id = NEW.id;
END;
CREATE TRIGGER person_uid AFTER INSERT ON person BEGIN
    UPDATE person SET uid = lower(hex(randomblob(8))) WHERE id = NEW.id;
END;
CREATE TRIGGER pattern_uid AFTER INSERT ON pattern BEGIN
    UPDATE pattern SET uid = lower(hex(randomblob(8))) WHERE id = NEW.id;
END;
CREATE TRIGGER platform_uid AFTER INSERT ON platform BEGIN
    UPDATE platform SET uid = lower(hex(randomblob(8))) WHERE id = NEW.id;
END;
CREATE TRIGGER uplink_uid AFTER INSERT ON uplink BEGIN
    UPDATE uplink SET uid = lower(hex(randomblob(8))) WHERE id = NEW.id;
END;
CREATE TRIGGER receiver_uid AFTER INSERT ON receiver BEGIN
    UPDATE receiver SET uid = lower(hex(randomblob(8))) WHERE id = NEW.id;
END;
CREATE TRIGGER alert_uid AFTER INSERT ON alert BEGIN
    UPDATE alert SET uid = lower(hex(randomblob(8))) WHERE id = NEW.id;
END;
CREATE TRIGGER token_uid AFTER INSERT ON token BEGIN
    UPDATE token SET uid = lower(hex(randomblob(8))) WHERE id = NEW.id;
END;

-- Only columns that people set: what the service notes by itself is no change.
CREATE TRIGGER feed_revision AFTER UPDATE OF name, url, sub_url, transport, user, password, pin, site ON feed BEGIN
    UPDATE feed SET revision = revision + 1 WHERE id = NEW.id;
END;
CREATE TRIGGER destination_revision AFTER UPDATE OF name, server, backup_server, return_after_s, platform, watch_page,
    authority, key, key_kind, key_expires_s, passphrase, key_bits ON destination BEGIN
    UPDATE destination SET revision = revision + 1 WHERE id = NEW.id;
END;
-- Starting, holding and stopping a relay is no change of its settings.
CREATE TRIGGER relay_revision AFTER UPDATE OF name, feed, hold_after_ms, on_air, zone, quiet_minute ON relay BEGIN
    UPDATE relay SET revision = revision + 1 WHERE id = NEW.id;
END;
CREATE TRIGGER person_revision AFTER UPDATE OF name, password_hash, role ON person BEGIN
    UPDATE person SET revision = revision + 1 WHERE id = NEW.id;
END;
CREATE TRIGGER pattern_revision AFTER UPDATE OF name, template, blanks, note ON pattern BEGIN
    UPDATE pattern SET revision = revision + 1 WHERE id = NEW.id;
END;
CREATE TRIGGER platform_revision AFTER UPDATE OF name, rules ON platform BEGIN
    UPDATE platform SET revision = revision + 1 WHERE id = NEW.id;
END;
CREATE TRIGGER uplink_revision AFTER UPDATE OF name, site, up_kbps, headroom_percent, allowance_bytes, role, source,
    interface ON uplink BEGIN
    UPDATE uplink SET revision = revision + 1 WHERE id = NEW.id;
END;
CREATE TRIGGER receiver_revision AFTER UPDATE OF name, settings, secret ON receiver BEGIN
    UPDATE receiver SET revision = revision + 1 WHERE id = NEW.id;
END;
CREATE TRIGGER alert_revision AFTER UPDATE OF name, trigger, about, repeat_s ON alert BEGIN
    UPDATE alert SET revision = revision + 1 WHERE id = NEW.id;
END;

-- Credentials end with the person who made them.
ALTER TABLE token ADD COLUMN maker INTEGER REFERENCES person (id) ON DELETE CASCADE;
UPDATE token SET maker = (SELECT id FROM person WHERE person.name = token.made_by);
ALTER TABLE invitation ADD COLUMN maker INTEGER REFERENCES person (id) ON DELETE CASCADE;
UPDATE invitation SET maker = (SELECT id FROM person WHERE person.name = invitation.made_by);
