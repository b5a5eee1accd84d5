INSERT INTO feed (name, url, sub_url, transport, user, password, created_s) VALUES
    ('Summit', 'rtsp://192.0.2.10/summit/main', 'rtsp://192.0.2.10/summit/sub', 'auto', 'rail', x'01', 1),
    ('Viaduct', 'rtsp://192.0.2.11/viaduct', NULL, 'udp', NULL, NULL, 2);
INSERT INTO destination (name, server, platform, key, key_set_s, created_s) VALUES
    ('Bramble TV', 'rtmps://ingest.bramble.example.net/live', 'Bramble TV', x'02', 3, 3),
    ('Marrow Hall', 'srt://ingest.marrow.example.net:8890', NULL, x'03', 4, 4);
INSERT INTO relay (name, feed, wanted, created_s) VALUES ('Line', 1, 'on', 5), ('Yard', 2, 'hold', 6);
INSERT INTO relay_destination (relay, position, destination) VALUES (1, 0, 2), (1, 1, 1), (2, 0, 1);
INSERT INTO person (name, password_hash, created_s) VALUES ('desk', '$argon2id$', 7), ('night', '$argon2id$', 8);
INSERT INTO session (token_hash, person, csrf, expires_s) VALUES (x'04', 1, 'csrf', 1800000000);
