-- +goose Up
-- Drills, and what came of them. What is open of a group is one.
CREATE TABLE recoveries (
    id         uuid PRIMARY KEY,
    kind       text        NOT NULL, -- drill
    group_id   uuid        NOT NULL, -- the record outlives its group
    group_name text        NOT NULL,
    point      uuid        NOT NULL,
    state      text        NOT NULL,
    result     text        NOT NULL DEFAULT '',
    started_by text        NOT NULL,
    started_at timestamptz NOT NULL,
    ended_at   timestamptz,
    detail     jsonb       NOT NULL
);
CREATE UNIQUE INDEX recoveries_open ON recoveries (group_id) WHERE state <> 'over';
CREATE INDEX recoveries_by_start ON recoveries (started_at DESC);

-- What machines showed when they had started.
CREATE TABLE recovery_screens (
    recovery_id uuid  NOT NULL REFERENCES recoveries ON DELETE CASCADE,
    machine     text  NOT NULL,
    png         bytea NOT NULL,
    PRIMARY KEY (recovery_id, machine)
);

-- +goose Down
DROP TABLE recovery_screens;
DROP TABLE recoveries;
