CREATE TABLE IF NOT EXISTS sources (
    id BINARY(16) NOT NULL PRIMARY KEY,
    storage_id BINARY(16) NOT NULL,
    path TEXT NOT NULL,
    path_key BINARY(32) AS (UNHEX(SHA2(path, 256))) PERSISTENT,
    sequence LONGTEXT NULL CHECK (JSON_VALID(sequence)),
    state VARCHAR(16) NOT NULL DEFAULT 'waiting',
    reading LONGTEXT NULL CHECK (JSON_VALID(reading)),
    problem LONGTEXT NULL CHECK (JSON_VALID(problem)),
    has_thumbnail BOOLEAN NOT NULL DEFAULT FALSE,
    added DATETIME(6) NOT NULL DEFAULT CURRENT_TIMESTAMP(6),
    UNIQUE KEY one_source_a_path (storage_id, path_key),
    KEY by_state (state),
    FOREIGN KEY (storage_id) REFERENCES storages (id)
);
