INSERT INTO pattern (name, template, blanks, note, created_s) VALUES
    ('Engine shed', 'rtsp://{host}/ch{channel}', '[{"name":"channel","kind":"number","width":2,"offset":0,"least":1,"most":8}]', 'Shed.', 9);
