UPDATE relay SET adapt = 'all' WHERE name = 'Yard';
UPDATE relay_destination SET video_limit = '720p', available_kbps = 4000 WHERE relay = 2;
UPDATE feed SET measured = '{}' WHERE name = 'Viaduct';
