-- Editions: what was made, of what, and what each of its files was. A record outlives the files.
CREATE TABLE edition (
    id           INTEGER PRIMARY KEY NOT NULL,
    spec         TEXT NOT NULL,
    number       INTEGER NOT NULL,
    label        TEXT NOT NULL,
    -- The instant it stands for, and that of the edition before, to which its changes refer.
    instant      INTEGER NOT NULL,
    before       INTEGER REFERENCES edition (id),
    -- The spec and the questions as they were, as JSON: all that is needed to make it again.
    recipe       TEXT NOT NULL,
    program      TEXT NOT NULL,
    -- Why it is made: the moment for which it was due, or who asked for it.
    due          INTEGER,
    asked_by     TEXT,
    begun_at     INTEGER NOT NULL,
    ended_at     INTEGER,
    state        TEXT NOT NULL,
    -- What did not hold, or why it was not finished.
    remark       TEXT,
    -- The digest of its SHA256SUMS.
    sums         TEXT,
    pinned_by    TEXT,
    pinned_why   TEXT,
    withdrawn_by TEXT,
    withdrawn_why TEXT,
    withdrawn_at INTEGER,
    UNIQUE (spec, number)
);

-- `made_of` is the digest of all that the file follows from; `linked` says that its bytes are those of the edition before.
CREATE TABLE edition_file (
    edition INTEGER NOT NULL REFERENCES edition (id),
    path    TEXT NOT NULL,
    digest  TEXT NOT NULL,
    bytes   INTEGER NOT NULL,
    rows    INTEGER NOT NULL,
    made_of TEXT NOT NULL,
    linked  INTEGER NOT NULL,
    PRIMARY KEY (edition, path)
) WITHOUT ROWID;

-- When a series came to be: an answer as of an earlier instant is made as if it were not there. Of older ones nobody knows.
ALTER TABLE series ADD COLUMN begun_at INTEGER NOT NULL DEFAULT 0;
