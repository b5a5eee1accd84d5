INSERT INTO session (token_hash, person, csrf, expires_s, begun_s, seen_s, agent, address) VALUES
    (x'12', 1, 'csrf', 1800000000, 36, 37, 'Browser', '192.0.2.50');
