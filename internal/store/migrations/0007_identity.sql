-- +goose Up
-- Under which keys each source spoke of a device last: [{"source": …, "at": …}]
ALTER TABLE devices ADD COLUMN spoken TEXT NOT NULL DEFAULT '[]';

-- The state is sealed: the digests of its tables stand in the signed head, and
-- here one by one, to name the table that differs.
ALTER TABLE head ADD COLUMN state TEXT NOT NULL DEFAULT '{}';

-- The past of devices is a chain of hashes that ends in the device's own row. Of
-- changes from before there was one the link is empty.
ALTER TABLE devices ADD COLUMN past BLOB NOT NULL DEFAULT x'';
ALTER TABLE device_past ADD COLUMN before BLOB NOT NULL DEFAULT x'';

-- +goose Down
ALTER TABLE device_past DROP COLUMN before;
ALTER TABLE devices DROP COLUMN past;
ALTER TABLE head DROP COLUMN state;
ALTER TABLE devices DROP COLUMN spoken;
