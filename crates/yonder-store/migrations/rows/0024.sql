INSERT INTO signpost (name, title, relay, player, unlisted, status_page, max_viewers, created_s)
    SELECT 'line', 'The line', id, 1, 0, 0, 500, 1 FROM relay WHERE name = 'Line';
INSERT INTO signpost_destination (signpost, position, destination)
    SELECT 1, 0, id FROM destination WHERE name = 'Bramble TV';
INSERT INTO signpost_traffic (day, signpost, bytes, viewers) VALUES ('2027-01-08', 1, 1000, 2);
