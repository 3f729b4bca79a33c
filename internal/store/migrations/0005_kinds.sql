-- +goose Up
-- The acts of people and what ended, among the masses of the other three kinds.
-- A query uses it when it rules these out by the same words: see few.
CREATE INDEX entries_few ON entries (kind, seq) WHERE kind <> 'decision.made' AND kind <> 'standing.changed' AND kind <> 'evidence.refused';

-- +goose Down
DROP INDEX entries_few;
