ALTER TABLE runs
    ADD COLUMN IF NOT EXISTS open_cell BINARY(32) AS (
        IF(state IN ('waiting', 'running', 'paused', 'checking'), CONCAT(source_id, deliverable_id), NULL)
    ) PERSISTENT,
    ADD UNIQUE KEY IF NOT EXISTS one_open_run (open_cell);
