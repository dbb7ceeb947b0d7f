-- Editions in object storage: where, when, and while that goes on, which files are there.
ALTER TABLE edition ADD COLUMN published_to TEXT;
ALTER TABLE edition ADD COLUMN published_at INTEGER;
CREATE TABLE edition_object (
    edition INTEGER NOT NULL REFERENCES edition (id),
    path    TEXT NOT NULL,
    PRIMARY KEY (edition, path)
) WITHOUT ROWID;

-- It is looked each second whether one was left under way.
CREATE INDEX edition_making ON edition (id) WHERE state = 'making';
