-- +goose Up
-- Who is disabled stays, and may not sign in.
ALTER TABLE people ADD COLUMN disabled boolean NOT NULL DEFAULT false;

-- Tokens may be good from some networks only; it is kept where a secret was used from
-- last; and what was made with a token goes with it. A reset link is for a person who
-- is here already.
ALTER TABLE secrets ADD COLUMN networks text[] NOT NULL DEFAULT '{}';
ALTER TABLE secrets ADD COLUMN used_from text NOT NULL DEFAULT '';
ALTER TABLE secrets ADD COLUMN parent uuid REFERENCES secrets ON DELETE CASCADE;
CREATE INDEX secrets_parent ON secrets (parent) WHERE parent IS NOT NULL;
ALTER TABLE secrets DROP CONSTRAINT secrets_kind_check;
ALTER TABLE secrets ADD CONSTRAINT secrets_kind_check CHECK (kind IN ('session', 'token', 'welcome', 'reset'));

-- Whose a served point is, and by which token: it is served on under other addresses
-- when they may no longer. Rows from before are nobody's.
ALTER TABLE served ADD COLUMN person uuid;
ALTER TABLE served ADD COLUMN by_token uuid;

-- +goose Down
ALTER TABLE served DROP COLUMN by_token;
ALTER TABLE served DROP COLUMN person;
DELETE FROM secrets WHERE kind = 'reset';
ALTER TABLE secrets DROP CONSTRAINT secrets_kind_check;
ALTER TABLE secrets ADD CONSTRAINT secrets_kind_check CHECK (kind IN ('session', 'token', 'welcome'));
ALTER TABLE secrets DROP COLUMN parent;
ALTER TABLE secrets DROP COLUMN used_from;
ALTER TABLE secrets DROP COLUMN networks;
ALTER TABLE people DROP COLUMN disabled;
