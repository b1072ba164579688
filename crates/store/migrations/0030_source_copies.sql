ALTER TABLE sources
    ADD COLUMN IF NOT EXISTS copy INT UNSIGNED NOT NULL DEFAULT 0,
    ADD UNIQUE KEY IF NOT EXISTS one_source_a_path_and_copy (storage_id, path_key, copy),
    DROP KEY IF EXISTS one_source_a_path;
