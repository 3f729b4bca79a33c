-- +goose Up
-- The hash of each entry as a leaf of the tree (RFC 6962). Entries of before
-- get theirs when the database is next opened.
ALTER TABLE entries ADD COLUMN leaf BLOB;

-- The hashes of the tree above the leaves, at every eighth level: what tiles
-- hold (C2SP tlog-tiles). Level 1 stands for 256 leaves, level 2 for 65,536.
CREATE TABLE tiles (
    level INTEGER NOT NULL,
    n     INTEGER NOT NULL,
    hash  BLOB    NOT NULL,
    PRIMARY KEY (level, n)
) WITHOUT ROWID;

-- The signed head, of the commit that wrote it.
CREATE TABLE head (
    id         INTEGER PRIMARY KEY CHECK (id = 1),
    size       INTEGER NOT NULL,
    checkpoint TEXT    NOT NULL -- C2SP tlog-checkpoint
);

-- What devices were before each change, newest state backwards: the way from
-- revision to the one before it. The present state is in devices.
ALTER TABLE devices ADD COLUMN revision INTEGER NOT NULL DEFAULT 1;
CREATE TABLE device_past (
    device   TEXT    NOT NULL,
    revision INTEGER NOT NULL, -- that the change made
    at       INTEGER NOT NULL, -- of the change
    undo     TEXT    NOT NULL, -- JSON
    PRIMARY KEY (device, revision)
) WITHOUT ROWID;

-- The same for the directory and the roster, each a whole.
CREATE TABLE house_past (
    what     TEXT    NOT NULL, -- people or roster
    revision INTEGER NOT NULL,
    at       INTEGER NOT NULL,
    undo     TEXT    NOT NULL, -- {id: what it was, or null}
    PRIMARY KEY (what, revision)
) WITHOUT ROWID;

-- +goose Down
DROP TABLE house_past;
DROP TABLE device_past;
ALTER TABLE devices DROP COLUMN revision;
DROP TABLE head;
DROP TABLE tiles;
ALTER TABLE entries DROP COLUMN leaf;
