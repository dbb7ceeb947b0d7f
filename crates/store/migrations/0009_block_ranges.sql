-- The lowest and highest numbers of each block, so that a condition that none of its bars can fulfil is known without opening it. They stand in a
-- table of their own: behind the body of a block they would be as far away as the body. Older blocks have none until they change, and are read.
CREATE TABLE block_range (
    series_id    INTEGER NOT NULL REFERENCES series (id),
    span_start   INTEGER NOT NULL,
    price_scale  INTEGER NOT NULL,
    price_low    INTEGER NOT NULL,
    price_high   INTEGER NOT NULL,
    volume_scale INTEGER,
    volume_low   INTEGER,
    volume_high  INTEGER,
    PRIMARY KEY (series_id, span_start)
) WITHOUT ROWID;
