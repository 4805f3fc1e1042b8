-- +goose Up
-- Machines that are left out on purpose. They go with their platform.
CREATE TABLE left_out (
    platform uuid NOT NULL REFERENCES platforms ON DELETE CASCADE,
    machine  text NOT NULL,
    name     text NOT NULL,
    reason   text NOT NULL,
    left_by  text NOT NULL,
    at       timestamptz NOT NULL,
    PRIMARY KEY (platform, machine)
);
-- How many machines had which word, hour by hour.
CREATE TABLE coverage (
    at     timestamptz PRIMARY KEY,
    counts jsonb NOT NULL
);

-- +goose Down
DROP TABLE coverage;
DROP TABLE left_out;
