-- The numbers of a version are text, as they were printed: open high low close volume, a hyphen for none.
-- Further numbers may follow them.
CREATE TABLE numbered_tail (
    series_id   INTEGER NOT NULL REFERENCES series (id),
    slot        INTEGER NOT NULL,
    recorded_at INTEGER NOT NULL,
    fetch_id    INTEGER NOT NULL,
    withdrawn   INTEGER NOT NULL,
    numbers     TEXT NOT NULL,
    PRIMARY KEY (series_id, slot, recorded_at, fetch_id)
) WITHOUT ROWID;
WITH number AS (
    SELECT series_id, slot, recorded_at, fetch_id, withdrawn,
        iif(open < 0, '-', '') || iif(price_scale = 0, abs(open), substr(printf('%0*d', price_scale + 1, abs(open)), 1, length(printf('%0*d', price_scale + 1, abs(open))) - price_scale) || '.' || substr(printf('%0*d', price_scale + 1, abs(open)), -price_scale)) AS o,
        iif(high < 0, '-', '') || iif(price_scale = 0, abs(high), substr(printf('%0*d', price_scale + 1, abs(high)), 1, length(printf('%0*d', price_scale + 1, abs(high))) - price_scale) || '.' || substr(printf('%0*d', price_scale + 1, abs(high)), -price_scale)) AS h,
        iif(low < 0, '-', '') || iif(price_scale = 0, abs(low), substr(printf('%0*d', price_scale + 1, abs(low)), 1, length(printf('%0*d', price_scale + 1, abs(low))) - price_scale) || '.' || substr(printf('%0*d', price_scale + 1, abs(low)), -price_scale)) AS l,
        iif(close < 0, '-', '') || iif(price_scale = 0, abs(close), substr(printf('%0*d', price_scale + 1, abs(close)), 1, length(printf('%0*d', price_scale + 1, abs(close))) - price_scale) || '.' || substr(printf('%0*d', price_scale + 1, abs(close)), -price_scale)) AS c,
        iif(volume IS NULL, '-', iif(volume < 0, '-', '') || iif(volume_scale = 0, abs(volume), substr(printf('%0*d', volume_scale + 1, abs(volume)), 1, length(printf('%0*d', volume_scale + 1, abs(volume))) - volume_scale) || '.' || substr(printf('%0*d', volume_scale + 1, abs(volume)), -volume_scale))) AS v
    FROM tail
)
INSERT INTO numbered_tail SELECT series_id, slot, recorded_at, fetch_id, withdrawn, o || ' ' || h || ' ' || l || ' ' || c || ' ' || v FROM number;
DROP TABLE tail;
ALTER TABLE numbered_tail RENAME TO tail;

-- Digits before the point, and the newest version in it; filled in for older blocks when the database is opened.
ALTER TABLE block ADD COLUMN price_whole INTEGER;
ALTER TABLE block ADD COLUMN volume_whole INTEGER;
ALTER TABLE block ADD COLUMN last_recorded INTEGER;

-- `revision` is the stamp of the commit that last changed the bars of a series. A count, as it was, is the same in a copy that went another way.
UPDATE series SET revision = 0;

-- From this commit on readers see what was held before the basis changed.
ALTER TABLE rebasing ADD COLUMN known_at INTEGER;
-- Why it lasts, and what became of it: 'collected', 'ended-as-it-is'.
ALTER TABLE rebasing ADD COLUMN reason TEXT;
ALTER TABLE rebasing ADD COLUMN outcome TEXT;

-- The stamp of the newest commit; every later one is greater.
CREATE TABLE newest_commit (stamp INTEGER NOT NULL);
INSERT INTO newest_commit SELECT coalesce(max(at), -377705023201000000) FROM
    (SELECT max(answered_at) AS at FROM fetch UNION ALL SELECT max(ended_at) FROM run UNION ALL SELECT max(recorded_at) FROM tail
     UNION ALL SELECT max(asked_at) FROM list_fetch UNION ALL SELECT max(ended_at) FROM rebasing UNION ALL SELECT max(given_at) FROM excuse
     UNION ALL SELECT max(revoked_at) FROM excuse UNION ALL SELECT max(decided_at) FROM quarantine);

-- When a row was refused: questions as of a past instant know only those that had been.
ALTER TABLE quarantine ADD COLUMN recorded_at INTEGER NOT NULL DEFAULT 0;
UPDATE quarantine SET recorded_at = coalesce((SELECT answered_at FROM fetch WHERE fetch.id = fetch_id), 0);

-- Sound bars that an answer had and that were neither asked for nor held.
ALTER TABLE fetch ADD COLUMN outside INTEGER NOT NULL DEFAULT 0;
-- Windows asked for twice in one run are counted as they ended.
DROP INDEX fetch_by_run;
CREATE INDEX fetch_by_run ON fetch (run_id, series_id, window_start);

-- A collection that would end more than half of a list waits for a person, with its rows as JSON.
ALTER TABLE list_fetch ADD COLUMN held TEXT;
ALTER TABLE list_fetch ADD COLUMN would_end INTEGER;
ALTER TABLE list_fetch ADD COLUMN repeated INTEGER NOT NULL DEFAULT 0;

-- Many rows of one answer with one flaw are one row here, with some of them as examples and the slots of all as [[start, end], ...].
ALTER TABLE quarantine ADD COLUMN count INTEGER NOT NULL DEFAULT 1;
ALTER TABLE quarantine ADD COLUMN slots TEXT;
CREATE INDEX quarantine_by_flaw ON quarantine (flaw, decision);
