-- What the list of a source said of an instrument until it said something else: the newest is in `instrument`.
CREATE TABLE instrument_before (
    instrument_id INTEGER NOT NULL REFERENCES instrument (id),
    until         INTEGER NOT NULL,
    name          TEXT NOT NULL,
    kind          TEXT NOT NULL,
    venue         TEXT NOT NULL,
    currency      TEXT NOT NULL,
    tick_size     TEXT,
    multiplier    TEXT,
    listed        INTEGER,
    last_traded   INTEGER,
    expiry        INTEGER,
    strike        TEXT,
    product       TEXT,
    first_notice  INTEGER,
    leverage      TEXT,
    PRIMARY KEY (instrument_id, until)
);
