CREATE TABLE IF NOT EXISTS deliverables (
    id BINARY(16) NOT NULL PRIMARY KEY,
    sheet_id BINARY(16) NOT NULL,
    position INT NOT NULL,
    preset LONGTEXT NOT NULL CHECK (JSON_VALID(preset)),
    storage_id BINARY(16) NULL,
    folder TEXT NOT NULL,
    name_pattern VARCHAR(500) NOT NULL,
    clash VARCHAR(16) NOT NULL,
    KEY by_sheet (sheet_id, position),
    FOREIGN KEY (sheet_id) REFERENCES sheets (id) ON DELETE CASCADE,
    FOREIGN KEY (storage_id) REFERENCES storages (id)
);
