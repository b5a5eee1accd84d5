INSERT INTO rate (kind, name, part, hour_s, kbps) VALUES ('feed', 'Summit', '', 3600, zeroblob(240)), ('push', 'Line', 'Bramble TV', 3600, zeroblob(240));
