-- The one certificate that is trusted for a camera, by its SHA-256.
ALTER TABLE feed ADD COLUMN pin BLOB CHECK (pin IS NULL OR length(pin) = 32);
