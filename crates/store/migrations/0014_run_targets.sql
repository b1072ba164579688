ALTER TABLE runs
    ADD COLUMN IF NOT EXISTS target_key BINARY(32) AS (UNHEX(SHA2(target, 256))) PERSISTENT,
    ADD KEY IF NOT EXISTS by_target (storage_id, target_key);
