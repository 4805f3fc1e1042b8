-- +goose Up
-- When all of a group's disks were last read, and not only what had changed.
ALTER TABLE groups ADD COLUMN compared_at timestamptz;

-- +goose Down
ALTER TABLE groups DROP COLUMN compared_at;
