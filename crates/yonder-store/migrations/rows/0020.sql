INSERT INTO open_alert (alert, subject, message, raised_ms, last_notified_ms) VALUES ('Down', 'feed Line', 'It is down.', 23000, 24000);
