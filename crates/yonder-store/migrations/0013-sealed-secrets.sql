-- Ties the records to their master key: a constant sealed under it.
CREATE TABLE master_key (
    id     INTEGER PRIMARY KEY CHECK (id = 1),
    sealed BLOB NOT NULL
) STRICT;

-- What lists show of secrets, so that they need not open them. NULL until the secret has been opened once.
ALTER TABLE feed ADD COLUMN has_factory_password INTEGER;
ALTER TABLE destination ADD COLUMN key_ending TEXT;
ALTER TABLE destination ADD COLUMN key_length INTEGER;
-- Keyed hash of the stream key: finds destinations with the same key without opening any.
ALTER TABLE destination ADD COLUMN key_hash BLOB;
CREATE INDEX destination_key_hash ON destination (key_hash);
