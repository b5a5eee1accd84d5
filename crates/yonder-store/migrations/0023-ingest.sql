-- Feeds that encoders publish to: stream key, the former one during its grace period, and the passphrase of SRT publishers.
-- The address of such a feed is empty.
ALTER TABLE feed ADD COLUMN ingest_key BLOB;
ALTER TABLE feed ADD COLUMN ingest_key_set_s INTEGER;
ALTER TABLE feed ADD COLUMN ingest_former_key BLOB;
ALTER TABLE feed ADD COLUMN ingest_former_until_s INTEGER;
ALTER TABLE feed ADD COLUMN ingest_passphrase BLOB;
-- Length of the SRT encryption key that encoders are asked to use, in bits. Not null for feeds of encoders.
ALTER TABLE feed ADD COLUMN ingest_key_bits INTEGER;
