ALTER TABLE sources
    ADD COLUMN IF NOT EXISTS scan VARCHAR(12) NOT NULL DEFAULT 'waiting',
    ADD KEY IF NOT EXISTS by_scan (state, scan, added, id);
