-- +goose Up
-- Who signs in at a provider, and as whom there; empty of those with a password here.
ALTER TABLE people ADD COLUMN issuer text NOT NULL DEFAULT '';
ALTER TABLE people ADD COLUMN subject text NOT NULL DEFAULT '';
ALTER TABLE people ADD COLUMN signed_on_at timestamptz;
CREATE UNIQUE INDEX people_subject ON people (issuer, subject) WHERE subject <> '';

-- +goose Down
DROP INDEX people_subject;
ALTER TABLE people DROP COLUMN signed_on_at;
ALTER TABLE people DROP COLUMN subject;
ALTER TABLE people DROP COLUMN issuer;
