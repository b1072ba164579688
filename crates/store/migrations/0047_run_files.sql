-- What a run yields may be several files that belong together.
CREATE TABLE IF NOT EXISTS run_files (
    run_id BINARY(16) NOT NULL,
    place SMALLINT UNSIGNED NOT NULL,
    temporary TEXT NULL,
    target TEXT NULL,
    target_key BINARY(32) AS (UNHEX(SHA2(target, 256))) PERSISTENT,
    size BIGINT UNSIGNED NULL,
    made_file BIGINT UNSIGNED NULL,
    made_modified BIGINT NULL,
    PRIMARY KEY (run_id, place),
    KEY by_target (target_key),
    KEY by_made_file (made_file, made_modified),
    CONSTRAINT file_of_run FOREIGN KEY (run_id) REFERENCES runs (id) ON DELETE CASCADE
);
INSERT IGNORE INTO run_files (run_id, place, temporary, target, size, made_file, made_modified)
    SELECT id, 0, temporary, target, size, made_file, made_modified FROM runs WHERE temporary IS NOT NULL OR target IS NOT NULL;
