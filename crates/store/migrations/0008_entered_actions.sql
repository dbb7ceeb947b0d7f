-- Corporate actions that a person entered. One is never changed: it is withdrawn, and another entered in its place.
CREATE TABLE entered_action (
    id            INTEGER PRIMARY KEY NOT NULL,
    symbol        TEXT NOT NULL,
    kind          TEXT NOT NULL,
    columns       TEXT NOT NULL,
    by_whom       TEXT NOT NULL,
    reason        TEXT NOT NULL,
    entered_at    INTEGER NOT NULL,
    withdrawn_at  INTEGER,
    withdrawn_by  TEXT,
    withdrawn_why TEXT
);
