INSERT INTO feed (name, url, transport, created_s, uid, ingest_key_bits, ingest_key_set_s) VALUES ('Bandstand encoder', '', 'auto', 1, 'feed-of-an-encoder', 128, 1);
