CREATE TABLE IF NOT EXISTS attempts (
    run_id BINARY(16) NOT NULL,
    lease_epoch BIGINT NOT NULL,
    owner VARCHAR(64) NOT NULL,
    started DATETIME(6) NOT NULL DEFAULT CURRENT_TIMESTAMP(6),
    ended DATETIME(6) NULL,
    outcome VARCHAR(200) NULL,
    PRIMARY KEY (run_id, lease_epoch),
    FOREIGN KEY (run_id) REFERENCES runs (id) ON DELETE CASCADE
);
