-- A run's place among those that wait is a rank with room between it and the next; the last run of each cell is known.
ALTER TABLE runs
    ADD COLUMN IF NOT EXISTS queue_rank BIGINT NOT NULL DEFAULT 0,
    ADD COLUMN IF NOT EXISTS is_latest TINYINT NOT NULL DEFAULT 0,
    ADD KEY IF NOT EXISTS in_order (state, priority DESC, queue_rank, seq),
    ADD KEY IF NOT EXISTS latest_of_cell (sheet_id, is_latest, source_id, deliverable_id, state, changed);
