UPDATE relay SET hold_after_ms = NULL, holding_picture = x'06' WHERE name = 'Yard';
