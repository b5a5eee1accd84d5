UPDATE person SET role = 'operator' WHERE name = 'night';
INSERT INTO session (token_hash, person, csrf, expires_s, begun_s, seen_s, agent) VALUES (x'08', 2, 'csrf', 1800000000, 23, 24, 'Browser');
INSERT INTO invitation (code_hash, name, role, made_by, expires_s) VALUES (x'09', 'guest', 'viewer', 'desk', 1800000000), (x'0a', 'chief', 'keeper', 'desk', 1800000000);
INSERT INTO token (name, role, token_hash, made_by, created_s, expires_s, used_s) VALUES
    ('wall', 'viewer', x'0b', 'desk', 25, NULL, 26), ('robot', 'keeper', x'0c', 'desk', 27, 1800000000, NULL);
