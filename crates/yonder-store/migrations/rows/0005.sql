INSERT INTO logbook (at_ms, kind, name, part, what, code, side, message, who) VALUES
    (18000, 'push', 'Line', 'Bramble TV', 'waiting', 'push.unreachable', 'network', 'No route.', NULL);
INSERT INTO run (kind, name, part, begin_ms, end_ms) VALUES
    ('relay', 'Line', '', 19000, NULL), ('feed', 'Summit', '', 19000, 20000), ('push', 'Line', 'Bramble TV', 19000, NULL);
INSERT INTO outage (kind, name, part, begin_ms, end_ms, code, side, message) VALUES
    ('push', 'Line', 'Bramble TV', 19100, 19200, 'push.unreachable', 'network', 'No route.'),
    ('relay', 'Former', '', 100, 200, 'feed.stalled', 'camera', 'Nothing came.');
INSERT INTO alive (id, at_ms, in_order) VALUES (1, 21000, 0);
