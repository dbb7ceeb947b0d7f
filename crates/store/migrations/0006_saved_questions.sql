-- Questions that researchers saved under a name. Every change is a row of its own; one without a text took the name away.
CREATE TABLE saved_question (
    id       INTEGER PRIMARY KEY NOT NULL,
    name     TEXT NOT NULL,
    text     TEXT,
    by       TEXT NOT NULL,
    saved_at INTEGER NOT NULL
);
CREATE INDEX saved_question_by_name ON saved_question (name, id);
