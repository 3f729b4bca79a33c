-- +goose Up
-- Under which keys each source spoke of a device last: [{"source": …, "at": …}]
ALTER TABLE devices ADD COLUMN spoken TEXT NOT NULL DEFAULT '[]';

-- +goose Down
ALTER TABLE devices DROP COLUMN spoken;
