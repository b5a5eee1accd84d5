-- Contacts were receivers, with a channel (`webhook` or `email`) in their settings.
DROP TRIGGER receiver_uid;
DROP TRIGGER receiver_revision;
ALTER TABLE receiver RENAME TO contact;
ALTER TABLE alert_receiver RENAME TO alert_contact;
ALTER TABLE alert_contact RENAME COLUMN receiver TO contact;
ALTER TABLE notification RENAME COLUMN receiver TO contact;
UPDATE contact SET settings = json_set(
    json_remove(settings, '$.by'),
    '$.type',
    CASE settings ->> '$.by' WHEN 'web' THEN 'webhook' ELSE 'email' END
);
UPDATE audit SET kind = 'contact' WHERE kind = 'receiver';

-- Names of rules.
UPDATE platform SET rules =
    replace(replace(replace(replace(replace(replace(rules,
        '"most_width"', '"max_width"'),
        '"most_lines"', '"max_lines"'),
        '"most_fps"', '"max_fps"'),
        '"most_channels"', '"max_channels"'),
        '"keyframe_least_s"', '"min_keyframe_interval_s"'),
        '"keyframe_most_s"', '"max_keyframe_interval_s"');

-- Placeholders of address patterns were blanks, from `least` to `most`.
ALTER TABLE pattern RENAME COLUMN blanks TO placeholders;
UPDATE pattern SET placeholders = replace(replace(placeholders, '"least":', '"min":'), '"most":', '"max":');

-- The role `admin` was `keeper`. A CHECK of a column goes with the column.
DROP TRIGGER person_revision;
ALTER TABLE person ADD COLUMN new_role TEXT NOT NULL DEFAULT 'admin' CHECK (new_role IN ('viewer', 'operator', 'admin'));
UPDATE person SET new_role = CASE role WHEN 'keeper' THEN 'admin' ELSE role END;
ALTER TABLE person DROP COLUMN role;
ALTER TABLE person RENAME COLUMN new_role TO role;
CREATE TRIGGER person_revision AFTER UPDATE OF name, password_hash, role ON person BEGIN
    UPDATE person SET revision = revision + 1 WHERE id = NEW.id;
END;
ALTER TABLE invitation ADD COLUMN new_role TEXT NOT NULL DEFAULT 'viewer' CHECK (new_role IN ('viewer', 'operator', 'admin'));
UPDATE invitation SET new_role = CASE role WHEN 'keeper' THEN 'admin' ELSE role END;
ALTER TABLE invitation DROP COLUMN role;
ALTER TABLE invitation RENAME COLUMN new_role TO role;
ALTER TABLE token ADD COLUMN new_role TEXT NOT NULL DEFAULT 'viewer' CHECK (new_role IN ('viewer', 'operator', 'admin'));
UPDATE token SET new_role = CASE role WHEN 'keeper' THEN 'admin' ELSE role END;
ALTER TABLE token DROP COLUMN role;
ALTER TABLE token RENAME COLUMN new_role TO role;

CREATE TRIGGER contact_uid AFTER INSERT ON contact BEGIN
    UPDATE contact SET uid = lower(hex(randomblob(8))) WHERE id = NEW.id;
END;
CREATE TRIGGER contact_revision AFTER UPDATE OF name, settings, secret ON contact BEGIN
    UPDATE contact SET revision = revision + 1 WHERE id = NEW.id;
END;
