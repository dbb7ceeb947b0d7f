-- A ledger of years has tens of millions of fetches, most of them short. Which of them touch a span is found from where their windows
-- end, and that only where it is known how long they are at most: 0 up to 40 days of daily slots, 1 up to a day and 2 up to 40 days of microseconds, 3 longer.
DROP INDEX fetch_by_series;
CREATE INDEX fetch_by_series ON fetch (series_id,
    (window_end - window_start > 40) + (window_end - window_start > 86400000000) + (window_end - window_start > 3456000000000),
    window_end, window_start, state, rows, asked_at, answered_at);

-- Polls that brought nothing new and wait to be folded.
CREATE INDEX fetch_in_vain ON fetch (answered_at) WHERE state = 'stored' AND bars_new = 0 AND restated = 0 AND refused = 0;

-- Old polls of one series that brought nothing new: how many, the hull of their windows, and of each in `polls` its number, window and times as
-- LEB128 varints. Their rows in `fetch` are gone, and their payloads where nothing else has them.
CREATE TABLE folded (
    id           INTEGER PRIMARY KEY NOT NULL,
    series_id    INTEGER NOT NULL REFERENCES series (id),
    window_start INTEGER NOT NULL,
    window_end   INTEGER NOT NULL,
    first_fetch  INTEGER NOT NULL,
    last_fetch   INTEGER NOT NULL,
    first_at     INTEGER NOT NULL,
    last_at      INTEGER NOT NULL,
    count        INTEGER NOT NULL,
    polls        BLOB NOT NULL
);
CREATE INDEX folded_by_series ON folded (series_id, last_fetch);

-- What the folded fetches of a run had come to.
ALTER TABLE run ADD COLUMN folded INTEGER NOT NULL DEFAULT 0;
ALTER TABLE run ADD COLUMN folded_same INTEGER NOT NULL DEFAULT 0;
ALTER TABLE run ADD COLUMN folded_bytes INTEGER NOT NULL DEFAULT 0;
ALTER TABLE run ADD COLUMN folded_calls INTEGER NOT NULL DEFAULT 0;

-- Payloads that came more than once, and how often again: one is dropped with the last fetch that has it.
CREATE TABLE payload_again (digest TEXT PRIMARY KEY NOT NULL, times INTEGER NOT NULL) WITHOUT ROWID;
INSERT INTO payload_again SELECT payload, count(*) - 1 FROM
    (SELECT payload FROM fetch UNION ALL SELECT payload FROM further_page UNION ALL SELECT payload FROM list_fetch)
    WHERE payload IS NOT NULL GROUP BY payload HAVING count(*) > 1;

-- What stands behind `body` is read through all its pages, so that goes last again.
CREATE TABLE block_anew (
    id            INTEGER PRIMARY KEY NOT NULL,
    series_id     INTEGER NOT NULL REFERENCES series (id),
    span_start    INTEGER NOT NULL,
    span_end      INTEGER NOT NULL,
    versions      INTEGER NOT NULL,
    bars          INTEGER NOT NULL,
    first_slot    INTEGER NOT NULL,
    last_slot     INTEGER NOT NULL,
    price_scale   INTEGER NOT NULL,
    volume_scale  INTEGER NOT NULL,
    price_whole   INTEGER,
    volume_whole  INTEGER,
    last_recorded INTEGER,
    held          BLOB NOT NULL,
    body          BLOB NOT NULL,
    UNIQUE (series_id, span_start)
);
INSERT INTO block_anew SELECT id, series_id, span_start, span_end, versions, bars, first_slot, last_slot, price_scale, volume_scale,
    price_whole, volume_whole, last_recorded, held, body FROM block;
DROP TABLE block;
ALTER TABLE block_anew RENAME TO block;
