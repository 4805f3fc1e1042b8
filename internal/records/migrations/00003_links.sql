-- +goose Up
-- How what this site sends over a link is compressed and limited.
ALTER TABLE links ADD COLUMN settings jsonb NOT NULL DEFAULT '{}';

-- +goose Down
ALTER TABLE links DROP COLUMN settings;
