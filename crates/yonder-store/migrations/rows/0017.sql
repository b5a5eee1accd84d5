UPDATE feed SET address_secrets = x'0f' WHERE name = 'Summit';
UPDATE destination SET address_secrets = x'10' WHERE name = 'Bramble TV';
UPDATE receiver SET address_secrets = x'11' WHERE name = 'Day desk';
