ALTER TABLE runs
    ADD COLUMN IF NOT EXISTS expected_cpu DOUBLE NULL,
    ADD KEY IF NOT EXISTS by_end (state, finished);
