-- What a sheet of thousands of cells remembers is asked for again only where it changed.
ALTER TABLE runs
    ADD COLUMN IF NOT EXISTS changed DATETIME(6) NOT NULL DEFAULT CURRENT_TIMESTAMP(6) ON UPDATE CURRENT_TIMESTAMP(6),
    ADD KEY IF NOT EXISTS of_cell_as_changed (sheet_id, source_id, deliverable_id, seq, changed),
    DROP KEY IF EXISTS of_cell;
ALTER TABLE sources
    ADD COLUMN IF NOT EXISTS documents BINARY(16) AS (UNHEX(MD5(CONCAT(reading, COALESCE(samples, ''))))) STORED;
