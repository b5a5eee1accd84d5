UPDATE feed SET address_worked_s = 28, account_worked_s = 29 WHERE name = 'Summit';
