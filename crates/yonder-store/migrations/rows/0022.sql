UPDATE feed SET device = '192.0.2.7:8080' WHERE name = 'Viaduct';
INSERT INTO tuning (feed, at_s, before) SELECT id, 1, '{"codec":"H.264","width":640,"height":360}' FROM feed WHERE name = 'Viaduct';
