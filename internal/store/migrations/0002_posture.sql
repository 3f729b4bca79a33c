-- +goose Up
-- Per-attribute refusals of the newest report of each source:
-- [{"source": …, "attribute": …, "message": …, "at": …}]
ALTER TABLE devices ADD COLUMN refused TEXT NOT NULL DEFAULT '[]';

-- Small things that are kept whole in memory and written one at a time:
-- waivers, vouches, roster entries, unmatched reports, saved searches.
CREATE TABLE documents (
    kind TEXT NOT NULL,
    id   TEXT NOT NULL,
    body TEXT NOT NULL, -- JSON; its form belongs to the service
    PRIMARY KEY (kind, id)
) WITHOUT ROWID;

-- The history of one device. Decisions have an index of their own.
CREATE INDEX entries_about ON entries (about, seq) WHERE kind <> 'decision.made' AND kind <> 'evidence.refused';

-- +goose Down
DROP INDEX entries_about;
DROP TABLE documents;
ALTER TABLE devices DROP COLUMN refused;
