CREATE TABLE IF NOT EXISTS sheet_sources (
    sheet_id BINARY(16) NOT NULL,
    source_id BINARY(16) NOT NULL,
    position INT NOT NULL,
    folder TEXT NOT NULL,
    PRIMARY KEY (sheet_id, source_id),
    KEY by_source (source_id),
    FOREIGN KEY (sheet_id) REFERENCES sheets (id) ON DELETE CASCADE,
    FOREIGN KEY (source_id) REFERENCES sources (id)
);
