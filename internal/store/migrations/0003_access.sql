-- +goose Up
-- The short codes that people read to the help desk, of decisions that were not
-- an allow.
CREATE TABLE codes (
    code     TEXT PRIMARY KEY,
    decision TEXT NOT NULL
) WITHOUT ROWID;

-- +goose Down
DROP TABLE codes;
