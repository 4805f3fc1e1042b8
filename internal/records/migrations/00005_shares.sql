-- +goose Up
-- Whether a served point may be written to: read-only, throw-away or lasting.
ALTER TABLE shares ADD COLUMN mode text NOT NULL DEFAULT 'read-only';

-- +goose Down
ALTER TABLE shares DROP COLUMN mode;
