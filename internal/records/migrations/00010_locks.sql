-- +goose Up
-- Until then nobody deletes the point; the store decides, this is for lists.
ALTER TABLE points ADD COLUMN locked_until timestamptz;

-- +goose Down
ALTER TABLE points DROP COLUMN locked_until;
