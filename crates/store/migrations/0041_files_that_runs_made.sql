ALTER TABLE runs
    ADD COLUMN IF NOT EXISTS made_file BIGINT UNSIGNED NULL,
    ADD COLUMN IF NOT EXISTS made_modified BIGINT NULL,
    ADD INDEX IF NOT EXISTS made (made_file, made_modified);
