-- When parts of an address were first seen to work since they were set, in seconds since 1970. A refusal of something
-- that has worked is retried; only what never worked needs a person.
ALTER TABLE feed ADD COLUMN address_worked_s INTEGER;
ALTER TABLE feed ADD COLUMN account_worked_s INTEGER;
ALTER TABLE destination ADD COLUMN server_worked_s INTEGER;
ALTER TABLE destination ADD COLUMN secrets_worked_s INTEGER;
UPDATE destination SET server_worked_s = key_used_s, secrets_worked_s = key_used_s;
