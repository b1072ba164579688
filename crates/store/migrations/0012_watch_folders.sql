CREATE TABLE IF NOT EXISTS watch_folders (
    id BINARY(16) NOT NULL PRIMARY KEY,
    name VARCHAR(200) NOT NULL,
    storage_id BINARY(16) NOT NULL,
    folder TEXT NOT NULL,
    presets LONGTEXT NOT NULL CHECK (JSON_VALID(presets)),
    destination_storage_id BINARY(16) NOT NULL,
    destination TEXT NOT NULL,
    clash VARCHAR(16) NOT NULL,
    settle_seconds INT UNSIGNED NOT NULL,
    is_on BOOLEAN NOT NULL DEFAULT FALSE,
    created DATETIME(6) NOT NULL DEFAULT CURRENT_TIMESTAMP(6),
    FOREIGN KEY (storage_id) REFERENCES storages (id),
    FOREIGN KEY (destination_storage_id) REFERENCES storages (id)
);
