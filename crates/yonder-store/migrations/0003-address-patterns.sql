CREATE TABLE pattern (
    id INTEGER PRIMARY KEY,
    name TEXT NOT NULL UNIQUE COLLATE NOCASE,
    template TEXT NOT NULL,
    -- As JSON: they are read and written as a whole, and never searched.
    blanks TEXT NOT NULL,
    note TEXT NOT NULL,
    created_s INTEGER NOT NULL
) STRICT;

INSERT INTO pattern (name, template, blanks, note, created_s) VALUES
(
    'Fellside camera',
    'rtsp://{host}:{port}/fellside/{stream}',
    '[{"name":"stream","kind":"choice","choices":[{"word":"main","value":"full"},{"word":"sub","value":"light"}]}]',
    'Single cameras of the railway.',
    0
),
(
    'Cairn recorder',
    'rtsp://{host}:{port}/cairn/ch{channel}/{stream}',
    '[{"name":"channel","kind":"number","width":2,"offset":0,"least":1,"most":32},{"name":"stream","kind":"choice","choices":[{"word":"main","value":"0"},{"word":"sub","value":"1"}]}]',
    'A recorder with up to 32 channels, counted from 01.',
    0
),
(
    'Whinberry encoder',
    'rtsp://{host}:{port}/out?input={channel}&rate={stream}',
    '[{"name":"channel","kind":"number","width":1,"offset":-1,"least":1,"most":4},{"name":"stream","kind":"choice","choices":[{"word":"main","value":"high"},{"word":"sub","value":"low"}]}]',
    'An encoder whose four inputs are counted from 0 in its addresses.',
    0
);
