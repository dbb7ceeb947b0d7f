-- Each configuration that the service accepted, from the instant on at which it did. The texts of its files stand in `payload`.
CREATE TABLE configuration (
    id          INTEGER PRIMARY KEY NOT NULL,
    accepted_at INTEGER NOT NULL
);

CREATE TABLE configuration_file (
    configuration_id INTEGER NOT NULL REFERENCES configuration (id),
    path             TEXT NOT NULL,
    payload          TEXT NOT NULL,
    PRIMARY KEY (configuration_id, path)
) WITHOUT ROWID;

-- When it was learned that there is an instrument, and that it was called otherwise; 0 for what was known before this was noted.
ALTER TABLE instrument ADD COLUMN added_at INTEGER NOT NULL DEFAULT 0;
ALTER TABLE former_symbol ADD COLUMN learned_at INTEGER NOT NULL DEFAULT 0;
