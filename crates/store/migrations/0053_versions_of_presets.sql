-- Every state in which a preset of the house was saved. They stay when it is removed.
CREATE TABLE IF NOT EXISTS preset_versions (
    preset_id VARCHAR(64) NOT NULL,
    number INT UNSIGNED NOT NULL,
    document LONGTEXT NOT NULL CHECK (JSON_VALID(document)),
    saved DATETIME(6) NOT NULL DEFAULT CURRENT_TIMESTAMP(6),
    PRIMARY KEY (preset_id, number)
);
INSERT IGNORE INTO preset_versions (preset_id, number, document, saved)
    SELECT id, 1, document, changed FROM presets;
