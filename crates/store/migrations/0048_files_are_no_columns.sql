ALTER TABLE runs
    ADD KEY IF NOT EXISTS of_storage (storage_id),
    DROP KEY IF EXISTS by_target,
    DROP KEY IF EXISTS by_made_file,
    DROP KEY IF EXISTS made,
    DROP COLUMN IF EXISTS target_key,
    DROP COLUMN IF EXISTS temporary,
    DROP COLUMN IF EXISTS target,
    DROP COLUMN IF EXISTS made_file,
    DROP COLUMN IF EXISTS made_modified;
