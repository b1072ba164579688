CREATE TABLE IF NOT EXISTS outputs (
    deliverable_id BINARY(16) NOT NULL,
    source_id BINARY(16) NOT NULL,
    enabled BOOLEAN NOT NULL DEFAULT TRUE,
    overrides LONGTEXT NULL CHECK (JSON_VALID(overrides)),
    PRIMARY KEY (deliverable_id, source_id),
    FOREIGN KEY (deliverable_id) REFERENCES deliverables (id) ON DELETE CASCADE,
    FOREIGN KEY (source_id) REFERENCES sources (id)
);
