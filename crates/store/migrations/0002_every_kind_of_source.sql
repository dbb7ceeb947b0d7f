-- Pages of an answer after the first, which stands in `fetch` itself.
ALTER TABLE fetch ADD COLUMN media_type TEXT;
ALTER TABLE fetch ADD COLUMN part TEXT;
CREATE TABLE further_page (
    fetch_id    INTEGER NOT NULL REFERENCES fetch (id),
    ordinal     INTEGER NOT NULL,
    part        TEXT,
    request     TEXT NOT NULL,
    http_status INTEGER,
    media_type  TEXT,
    payload     TEXT REFERENCES payload (digest),
    size        INTEGER NOT NULL,
    PRIMARY KEY (fetch_id, ordinal)
) WITHOUT ROWID;

-- The page of the answer a suspect row stood on, from 0.
ALTER TABLE quarantine ADD COLUMN page INTEGER NOT NULL DEFAULT 0;

-- Calls of a source reserved on a day of its own calendar, before they are sent.
CREATE TABLE daily_calls (
    source   TEXT NOT NULL,
    day      INTEGER NOT NULL,
    reserved INTEGER NOT NULL,
    PRIMARY KEY (source, day)
) WITHOUT ROWID;

ALTER TABLE instrument ADD COLUMN expiry INTEGER;
ALTER TABLE instrument ADD COLUMN strike TEXT;
-- The list that named the instrument first, as SOURCE/LIST; of those of the configuration, nothing.
ALTER TABLE instrument ADD COLUMN listed_by TEXT;

-- One collection of a list that a source keeps, with its payload.
CREATE TABLE list_fetch (
    id       INTEGER PRIMARY KEY NOT NULL,
    source   TEXT NOT NULL,
    list     TEXT NOT NULL,
    asked_at INTEGER NOT NULL,
    request  TEXT NOT NULL,
    payload  TEXT REFERENCES payload (digest),
    size     INTEGER NOT NULL,
    rows     INTEGER NOT NULL,
    refused  INTEGER NOT NULL,
    failure  TEXT,
    message  TEXT
);
CREATE INDEX list_fetch_by_list ON list_fetch (source, list, id);

-- What a list said under a key, from one collection until another. `body` is a JSON object of its columns.
CREATE TABLE list_row (
    id         INTEGER PRIMARY KEY NOT NULL,
    source     TEXT NOT NULL,
    list       TEXT NOT NULL,
    row_key    TEXT NOT NULL,
    body       TEXT NOT NULL,
    since      INTEGER NOT NULL,
    first_of   INTEGER NOT NULL REFERENCES list_fetch (id),
    until      INTEGER,
    ended_by   INTEGER REFERENCES list_fetch (id)
);
CREATE UNIQUE INDEX list_row_now ON list_row (source, list, row_key) WHERE until IS NULL;
CREATE INDEX list_row_by_time ON list_row (since);
