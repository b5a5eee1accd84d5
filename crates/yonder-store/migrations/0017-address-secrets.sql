-- Secrets inside addresses: sealed JSON objects of fields and the secrets in each, which stand as {secret} in the address.
ALTER TABLE feed ADD COLUMN address_secrets BLOB;
ALTER TABLE destination ADD COLUMN address_secrets BLOB;
-- The whole address of a web receiver; its settings have a shortened form.
ALTER TABLE receiver ADD COLUMN address_secrets BLOB;
