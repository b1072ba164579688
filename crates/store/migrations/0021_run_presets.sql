ALTER TABLE runs
    ADD COLUMN IF NOT EXISTS preset_name VARCHAR(255) NOT NULL DEFAULT '',
    ADD KEY IF NOT EXISTS of_cell (sheet_id, source_id, deliverable_id, seq),
    ADD KEY IF NOT EXISTS made (sheet_id, state, source_id, deliverable_id),
    ADD KEY IF NOT EXISTS ended (finished);
