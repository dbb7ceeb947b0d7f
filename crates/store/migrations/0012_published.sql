-- Editions in object storage: where, when, and while that goes on, which files are there.
ALTER TABLE edition ADD COLUMN published_to TEXT;
ALTER TABLE edition ADD COLUMN published_at INTEGER;
CREATE TABLE edition_object (
    edition INTEGER NOT NULL REFERENCES edition (id),
    path    TEXT NOT NULL,
    PRIMARY KEY (edition, path)
) WITHOUT ROWID;
