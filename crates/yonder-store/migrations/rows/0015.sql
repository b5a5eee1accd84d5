INSERT INTO notification (receiver, kind, alert, subject, message, raised_ms, at_ms) VALUES (1, 'raised', 'Down', 'relay Line', 'It is down.', 22000, 22000);
UPDATE receiver SET sign_of_life_h = 24 WHERE name = 'Night';
UPDATE alert SET muted_until_ms = 33000 WHERE name = 'Slow';
UPDATE open_alert SET is_acknowledged = 1;
