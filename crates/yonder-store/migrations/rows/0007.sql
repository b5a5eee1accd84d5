UPDATE relay SET on_air = 'daily 05:30-22:30', zone = 'Europe/Lisbon', quiet_minute = '03:10' WHERE name = 'Line';
