INSERT INTO contact (name, settings) VALUES ('Office', '{"type":"webhook","url":"https://office.example.net/"}');
INSERT INTO person (name, password_hash, created_s, role) VALUES ('owner', '$argon2id$', 35, 'admin');
