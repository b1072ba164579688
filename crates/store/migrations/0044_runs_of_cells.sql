-- An earlier index has the name under which the second of these was to be made.
ALTER TABLE runs
    ADD KEY IF NOT EXISTS of_cell (sheet_id, source_id, deliverable_id, seq),
    ADD KEY IF NOT EXISTS by_made_file (made_file, made_modified);
