-- What can be traded. `symbol` is the present one; former ones stand beside it.
-- Dates are days since 1970-01-01, instants microseconds since then, UTC.
CREATE TABLE instrument (
    id          INTEGER PRIMARY KEY NOT NULL,
    symbol      TEXT NOT NULL UNIQUE,
    name        TEXT NOT NULL,
    kind        TEXT NOT NULL,
    venue       TEXT NOT NULL,
    currency    TEXT NOT NULL,
    tick_size   TEXT,
    multiplier  TEXT,
    listed      INTEGER,
    last_traded INTEGER
);

CREATE TABLE former_symbol (
    instrument_id INTEGER NOT NULL REFERENCES instrument (id),
    symbol        TEXT NOT NULL,
    until         INTEGER NOT NULL,
    PRIMARY KEY (instrument_id, symbol)
);

-- One instrument, interval and side from one source. `revision` counts the
-- transactions that changed its bars, for validators and caches.
CREATE TABLE series (
    id            INTEGER PRIMARY KEY NOT NULL,
    instrument_id INTEGER NOT NULL REFERENCES instrument (id),
    interval      TEXT NOT NULL,
    side          TEXT NOT NULL,
    source        TEXT NOT NULL,
    revision      INTEGER NOT NULL DEFAULT 0,
    UNIQUE (instrument_id, interval, side, source)
);

-- Every version of the bars of one series and span. `body` is a Parquet file;
-- `held` says which slots have a bar, so that nobody opens `body` to find gaps.
-- An ordinary rowid table: `body` comes last and spills to overflow pages
-- that a scan of the other columns never reads.
CREATE TABLE block (
    id           INTEGER PRIMARY KEY NOT NULL,
    series_id    INTEGER NOT NULL REFERENCES series (id),
    span_start   INTEGER NOT NULL,
    span_end     INTEGER NOT NULL,
    versions     INTEGER NOT NULL,
    bars         INTEGER NOT NULL,
    first_slot   INTEGER NOT NULL,
    last_slot    INTEGER NOT NULL,
    price_scale  INTEGER NOT NULL,
    volume_scale INTEGER NOT NULL,
    held         BLOB NOT NULL,
    body         BLOB NOT NULL,
    UNIQUE (series_id, span_start)
);

-- The newest versions, a row each, until there are enough of them to seal.
CREATE TABLE tail (
    series_id    INTEGER NOT NULL REFERENCES series (id),
    slot         INTEGER NOT NULL,
    recorded_at  INTEGER NOT NULL,
    fetch_id     INTEGER NOT NULL,
    withdrawn    INTEGER NOT NULL,
    price_scale  INTEGER NOT NULL,
    volume_scale INTEGER NOT NULL,
    open         INTEGER NOT NULL,
    high         INTEGER NOT NULL,
    low          INTEGER NOT NULL,
    close        INTEGER NOT NULL,
    volume       INTEGER,
    PRIMARY KEY (series_id, slot, recorded_at, fetch_id)
) WITHOUT ROWID;

CREATE TABLE run (
    id         INTEGER PRIMARY KEY NOT NULL,
    collector  TEXT NOT NULL,
    reason     TEXT NOT NULL CHECK (reason IN ('schedule', 'request', 'repair', 'recovery')),
    scope      TEXT NOT NULL,
    started_at INTEGER NOT NULL,
    ended_at   INTEGER,
    state      TEXT NOT NULL CHECK (state IN ('running', 'complete', 'incomplete', 'cancelled', 'interrupted')),
    windows    INTEGER NOT NULL DEFAULT 0
);
CREATE INDEX run_by_collector ON run (collector, started_at);

-- One window asked for. A row is written with its answer, before any bar:
-- 'answered' means the payload is kept and its bars are still to be stored.
CREATE TABLE fetch (
    id           INTEGER PRIMARY KEY NOT NULL,
    run_id       INTEGER NOT NULL REFERENCES run (id),
    series_id    INTEGER NOT NULL REFERENCES series (id),
    window_start INTEGER NOT NULL,
    window_end   INTEGER NOT NULL,
    state        TEXT NOT NULL CHECK (state IN ('answered', 'stored', 'failed')),
    asked_at     INTEGER NOT NULL,
    answered_at  INTEGER NOT NULL,
    attempts     INTEGER NOT NULL,
    request      TEXT NOT NULL,
    http_status  INTEGER,
    payload      TEXT REFERENCES payload (digest),
    payload_size INTEGER NOT NULL DEFAULT 0,
    rows         INTEGER NOT NULL DEFAULT 0,
    bars_new     INTEGER NOT NULL DEFAULT 0,
    bars_same    INTEGER NOT NULL DEFAULT 0,
    restated     INTEGER NOT NULL DEFAULT 0,
    refused      INTEGER NOT NULL DEFAULT 0,
    unfinished   INTEGER NOT NULL DEFAULT 0,
    failure      TEXT,
    message      TEXT
);
CREATE INDEX fetch_by_series ON fetch (series_id, window_end);
CREATE INDEX fetch_by_run ON fetch (run_id);
CREATE INDEX fetch_to_replay ON fetch (state) WHERE state = 'answered';

-- The exact bytes a source answered, zstd-compressed, under their SHA-256.
CREATE TABLE payload (
    digest TEXT PRIMARY KEY NOT NULL,
    size   INTEGER NOT NULL,
    body   BLOB NOT NULL
);

-- Rows that cannot be true, or cannot be read; never served, never lost.
CREATE TABLE quarantine (
    id        INTEGER PRIMARY KEY NOT NULL,
    series_id INTEGER NOT NULL REFERENCES series (id),
    fetch_id  INTEGER NOT NULL REFERENCES fetch (id),
    slot      INTEGER,
    line      INTEGER NOT NULL,
    flaw      TEXT NOT NULL,
    text      TEXT NOT NULL,
    UNIQUE (series_id, slot, flaw, text)
);

-- Absences that a person accepted, with a name and a reason.
CREATE TABLE excuse (
    id         INTEGER PRIMARY KEY NOT NULL,
    series_id  INTEGER NOT NULL REFERENCES series (id),
    span_start INTEGER NOT NULL,
    span_end   INTEGER NOT NULL,
    by_whom    TEXT NOT NULL,
    note       TEXT NOT NULL,
    given_at   INTEGER NOT NULL,
    revoked_at INTEGER
);
CREATE INDEX excuse_by_series ON excuse (series_id);
