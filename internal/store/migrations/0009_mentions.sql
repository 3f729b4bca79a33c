-- +goose Up
-- Which entries speak of a device ("d:…") or a person ("p:…"), by runs of entries, so that a search need not read the
-- bodies of all. What is here can be made anew from the entries, and is; see package mention.
CREATE TABLE mentions (
    run INTEGER NOT NULL,
    who TEXT    NOT NULL,
    seq INTEGER NOT NULL,
    PRIMARY KEY (run, who, seq)
) WITHOUT ROWID;
CREATE TABLE mention_runs (run INTEGER PRIMARY KEY); -- those whose mentions are all there, without a gap

-- +goose Down
DROP TABLE mention_runs;
DROP TABLE mentions;
