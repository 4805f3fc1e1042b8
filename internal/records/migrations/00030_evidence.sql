-- +goose Up
-- Signed records of recoveries that were tried. They have numbers without gaps, and each names
-- the hash of the one before.
CREATE TABLE evidence (
    number      bigint      PRIMARY KEY,
    recovery_id uuid        NOT NULL UNIQUE,
    group_id    uuid        NOT NULL,
    group_name  text        NOT NULL,
    kind        text        NOT NULL,
    result      text        NOT NULL,
    made_at     timestamptz NOT NULL,
    hash        text        NOT NULL,
    file        bytea       NOT NULL
);

-- +goose Down
DROP TABLE evidence;
