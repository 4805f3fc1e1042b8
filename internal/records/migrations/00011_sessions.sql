-- +goose Up
-- Where a session was begun from.
ALTER TABLE secrets ADD COLUMN origin text NOT NULL DEFAULT '';

-- +goose Down
ALTER TABLE secrets DROP COLUMN origin;
