UPDATE uplink SET interface = 'eth0' WHERE name = 'Office fibre';
INSERT INTO destination_uplink (destination, position, uplink) VALUES (1, 0, 1), (1, 1, 2);
INSERT INTO traffic (day, kind, subject, bytes) VALUES ('2026-11-21', 'uplink', 'Office fibre', 300);
