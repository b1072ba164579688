ALTER TABLE sources
    DROP KEY IF EXISTS one_source_a_path_and_copy,
    DROP COLUMN IF EXISTS path_key,
    ADD COLUMN path_key BINARY(32) AS (UNHEX(SHA2(CONCAT(path, IF(sequence IS NULL, '', ' as a sequence')), 256))) PERSISTENT,
    ADD UNIQUE KEY one_source_a_path_and_copy (storage_id, path_key, copy);
