-- +goose Up
-- What somebody signs in with in place of a password: the public half, as the library
-- that checks it keeps it.
CREATE TABLE passkeys (
    id            uuid PRIMARY KEY,
    person        uuid NOT NULL REFERENCES people ON DELETE CASCADE,
    name          text NOT NULL,
    credential_id bytea NOT NULL UNIQUE,
    credential    jsonb NOT NULL,
    created_at    timestamptz NOT NULL,
    last_used_at  timestamptz
);
CREATE INDEX passkeys_person ON passkeys (person);

-- +goose Down
DROP TABLE passkeys;
