-- Adaptation of feeds: what a relay may adapt, limits of its destinations, and the last measurement of each feed.
ALTER TABLE relay ADD COLUMN adapt TEXT NOT NULL DEFAULT 'audio' CHECK (adapt IN ('none', 'audio', 'all'));
ALTER TABLE relay_destination ADD COLUMN video_limit TEXT NOT NULL DEFAULT '';
ALTER TABLE relay_destination ADD COLUMN available_kbps INTEGER;
ALTER TABLE feed ADD COLUMN measured TEXT;
