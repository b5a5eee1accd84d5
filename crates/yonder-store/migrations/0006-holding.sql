-- How long a feed may be away before its relay shows the holding picture; NULL never does so by itself.
ALTER TABLE relay ADD COLUMN hold_after_ms INTEGER DEFAULT 3000;

-- A picture of the user's own, as the file that was given.
ALTER TABLE relay ADD COLUMN holding_picture BLOB;
