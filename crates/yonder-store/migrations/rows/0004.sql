UPDATE destination SET backup_server = 'rtmps://backup.bramble.example.net/live', return_after_s = 60, watch_page = 'https://bramble.example.net/line',
    key_kind = 'one-broadcast', key_expires_s = 1790000000, key_rolls = 2, key_used_s = 10 WHERE name = 'Bramble TV';
UPDATE destination SET passphrase = x'05', passphrase_set_s = 11, key_bits = 256, authority = 'PEM' WHERE name = 'Marrow Hall';
UPDATE feed SET site = 'Summit' WHERE name = 'Summit';
UPDATE relay SET cleared_s = 12 WHERE name = 'Line';
INSERT INTO platform (name, rules, created_s) VALUES
    ('Fell Hall', '{"protocols":["rtmps"],"video":{"most_width":1280,"most_lines":720,"most_fps":30.0,"keyframe_least_s":1.0,"keyframe_most_s":4.0},"audio":{"most_channels":2}}', 13);
INSERT INTO uplink (name, site, up_kbps, headroom_percent, allowance_bytes, role, created_s) VALUES
    ('Office fibre', NULL, 20000, 20, 1000000000, 'main', 14), ('Summit radio', 'Summit', 4000, 10, NULL, 'backup', 15);
INSERT INTO traffic (day, kind, subject, bytes) VALUES
    ('2026-11-20', 'feed', 'Summit', 100), ('2026-11-20', 'push', 'Line' || char(10) || 'Bramble TV', 200);
INSERT INTO deed (at_s, who, what, subject, detail) VALUES (16, 'desk', 'key-revealed', 'Bramble TV', ''), (17, 'desk', 'started', 'Line', 'forced');
