-- +goose Up
-- With those of decisions and of the history of devices, everything that the
-- ledger says about something is found by an index: see about.
CREATE INDEX entries_refused ON entries (about, seq) WHERE kind = 'evidence.refused';

-- +goose Down
DROP INDEX entries_refused;
