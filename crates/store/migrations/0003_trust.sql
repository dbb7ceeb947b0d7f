-- An excuse is for an absence, or for what this check found.
ALTER TABLE excuse ADD COLUMN finding TEXT;

-- What a person decided of a bar that was held back, who, and when: 'taken' or 'refused'.
ALTER TABLE quarantine ADD COLUMN decision TEXT;
ALTER TABLE quarantine ADD COLUMN decided_by TEXT;
ALTER TABLE quarantine ADD COLUMN decided_at INTEGER;

-- While the past of a series is collected again on another basis, readers see what was held before `began_at`.
CREATE TABLE rebasing (
    id        INTEGER PRIMARY KEY NOT NULL,
    series_id INTEGER NOT NULL REFERENCES series (id),
    factor    TEXT NOT NULL,
    began_at  INTEGER NOT NULL,
    ended_at  INTEGER
);
CREATE INDEX rebasing_by_series ON rebasing (series_id, began_at);

-- Everything that explaining a gap needs of a fetch stands in the index.
DROP INDEX fetch_by_series;
CREATE INDEX fetch_by_series ON fetch (series_id, window_end, window_start, state, rows, asked_at, answered_at);
CREATE INDEX fetch_restated ON fetch (answered_at) WHERE restated > 0;
CREATE INDEX fetch_failed ON fetch (answered_at) WHERE state = 'failed';
