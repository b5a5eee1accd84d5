UPDATE feed SET pin = zeroblob(32) WHERE name = 'Viaduct';
