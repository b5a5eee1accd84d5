INSERT INTO audit (at_ms, who, origin, address, action, kind, name, uid, fields, detail) VALUES
    (30000, 'desk', 'console', '192.0.2.50', 'added', 'receiver', 'Desk', (SELECT uid FROM receiver WHERE name = 'Desk'), '["way"]', ''),
    (31000, 'desk', 'api', NULL, 'changed', 'feed', 'Summit', (SELECT uid FROM feed WHERE name = 'Summit'), '["url"]', '');
UPDATE receiver SET name = 'Day desk' WHERE name = 'Desk';
