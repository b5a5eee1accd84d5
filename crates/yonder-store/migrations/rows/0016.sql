INSERT INTO former_name (kind, name, uid) SELECT 'feed', 'Peak', uid FROM feed WHERE name = 'Summit';
INSERT INTO logbook (at_ms, kind, name, what, uid) SELECT 34000, 'feed', 'Summit', 'flowing', uid FROM feed WHERE name = 'Summit';
