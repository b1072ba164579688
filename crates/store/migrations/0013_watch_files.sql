CREATE TABLE IF NOT EXISTS watch_files (
    watch_folder_id BINARY(16) NOT NULL,
    path TEXT NOT NULL,
    path_key BINARY(32) AS (UNHEX(SHA2(path, 256))) PERSISTENT,
    state VARCHAR(16) NOT NULL,
    size BIGINT UNSIGNED NOT NULL,
    modified BIGINT NOT NULL,
    tries INT UNSIGNED NOT NULL DEFAULT 0,
    detail TEXT NULL,
    left_out TEXT NULL,
    source_id BINARY(16) NULL,
    unchanged_since DATETIME(6) NOT NULL DEFAULT CURRENT_TIMESTAMP(6),
    entered DATETIME(6) NOT NULL DEFAULT CURRENT_TIMESTAMP(6),
    taken DATETIME(6) NULL,
    UNIQUE KEY one_row_a_path (watch_folder_id, path_key),
    KEY by_state (watch_folder_id, state, entered),
    FOREIGN KEY (watch_folder_id) REFERENCES watch_folders (id) ON DELETE CASCADE,
    FOREIGN KEY (source_id) REFERENCES sources (id)
);
