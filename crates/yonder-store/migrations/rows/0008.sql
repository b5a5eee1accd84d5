INSERT INTO receiver (name, settings, secret) VALUES
    ('Desk', '{"by":"web","url":"https://hooks.example.net/relay"}', x'07'),
    ('Night', '{"by":"mail","server":"mail.example.net:587","security":"starttls","from":"relay@example.net","to":["night@example.net"]}', NULL);
INSERT INTO alert (name, trigger, about, repeat_s) VALUES ('Down', 'down 60s', NULL, 14400), ('Slow', 'rate-below 500kbit/s 30s', 'Line', 600);
INSERT INTO alert_receiver (alert, receiver) VALUES (2, 2);
INSERT INTO open_alert (alert, subject, message, raised_ms, told_ms) VALUES ('Down', 'relay Line', 'It is down.', 22000, 22000);
