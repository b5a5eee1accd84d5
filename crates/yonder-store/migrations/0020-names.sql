-- Columns with the names of their fields.
ALTER TABLE open_alert RENAME COLUMN told_ms TO last_notified_ms;
ALTER TABLE relay RENAME COLUMN cleared_s TO preflight_passed_at_s;
UPDATE logbook SET what = 'not-notified' WHERE what = 'not-told';
