-- When a relay should run, a window a line, by the clock on the wall in its zone; empty for always.
ALTER TABLE relay ADD COLUMN on_air TEXT NOT NULL DEFAULT '';
ALTER TABLE relay ADD COLUMN zone TEXT NOT NULL DEFAULT 'UTC';

-- The minute of the day for planned reconnects.
ALTER TABLE relay ADD COLUMN quiet_minute TEXT;
