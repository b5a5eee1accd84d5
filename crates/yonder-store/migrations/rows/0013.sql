INSERT INTO master_key (id, sealed) VALUES (1, x'0d');
UPDATE destination SET key_ending = 'cd', key_length = 12, key_hash = zeroblob(32) WHERE name = 'Bramble TV';
