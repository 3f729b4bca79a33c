-- +goose Up
CREATE TABLE entries (
    seq   INTEGER PRIMARY KEY,
    at    INTEGER NOT NULL, -- microseconds since the Unix epoch, as every time here
    kind  TEXT    NOT NULL,
    actor TEXT    NOT NULL,
    about TEXT    NOT NULL,
    body  TEXT    NOT NULL
);
-- Decisions are looked up, listed and counted by their id, which rises with time.
CREATE UNIQUE INDEX entries_decision ON entries (about) WHERE kind = 'decision.made';

CREATE TABLE devices (
    id         TEXT    PRIMARY KEY,
    keys       TEXT    NOT NULL, -- [["serial", "gf-1"], ...]
    evidence   TEXT    NOT NULL, -- {"source": {"observed at": {"attribute": value}}}
    level      TEXT    NOT NULL,
    since      INTEGER NOT NULL, -- of the level
    failing    TEXT    NOT NULL, -- {"baseline/rule": since}
    first_seen INTEGER NOT NULL,
    seen_at    INTEGER NOT NULL
); -- with a rowid: the rows are too large for the leaves of an index

CREATE TABLE people (
    id     TEXT PRIMARY KEY,
    name   TEXT NOT NULL,
    groups TEXT NOT NULL -- ["finance", ...]
) WITHOUT ROWID;

CREATE TABLE rulebooks (
    version INTEGER PRIMARY KEY,
    at      INTEGER NOT NULL,
    author  TEXT    NOT NULL,
    message TEXT    NOT NULL,
    digest  TEXT    NOT NULL, -- SHA-256 of the files, in hex
    files   TEXT    NOT NULL  -- [{"name": …, "text": …}]
);

CREATE TABLE tokens (
    id         TEXT    PRIMARY KEY,
    name       TEXT    NOT NULL,
    role       TEXT    NOT NULL,
    hash       BLOB    NOT NULL UNIQUE, -- SHA-256 of the token
    created_at INTEGER NOT NULL,
    created_by TEXT    NOT NULL,
    revoked_at INTEGER NOT NULL DEFAULT 0
) WITHOUT ROWID;

CREATE TABLE sessions (
    hash       BLOB    PRIMARY KEY, -- SHA-256 of the cookie's value
    token      TEXT    NOT NULL REFERENCES tokens (id),
    expires_at INTEGER NOT NULL
) WITHOUT ROWID;

-- +goose Down
DROP TABLE sessions;
DROP TABLE tokens;
DROP TABLE rulebooks;
DROP TABLE people;
DROP TABLE devices;
DROP TABLE entries;
