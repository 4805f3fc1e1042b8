-- +goose Up
-- What a kind of platform needs beside address and credentials.
ALTER TABLE platforms ADD COLUMN settings jsonb NOT NULL DEFAULT '{}';
CREATE TABLE landings (
    id         uuid PRIMARY KEY,
    point      uuid NOT NULL,
    platform   uuid NOT NULL REFERENCES platforms,
    machine    text NOT NULL,
    token      text NOT NULL UNIQUE, -- names the exports its disks read from
    state      text NOT NULL,
    created_by text NOT NULL,
    created_at timestamptz NOT NULL,
    detail     jsonb NOT NULL
);

-- +goose Down
DROP TABLE landings;
ALTER TABLE platforms DROP COLUMN settings;
