-- +goose Up
-- Every device that becomes known has an entry of its keys: they are masses, and
-- found by what they are about. See few.
DROP INDEX entries_few;
CREATE INDEX entries_few ON entries (kind, seq)
WHERE kind <> 'decision.made' AND kind <> 'standing.changed' AND kind <> 'evidence.refused' AND kind <> 'device.keyed';

-- +goose Down
DROP INDEX entries_few;
CREATE INDEX entries_few ON entries (kind, seq) WHERE kind <> 'decision.made' AND kind <> 'standing.changed' AND kind <> 'evidence.refused';
