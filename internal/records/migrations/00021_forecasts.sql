-- +goose Up
-- What was foretold of each group for a day, and what came of it.
CREATE TABLE forecasts (
    group_id      uuid        NOT NULL REFERENCES groups ON DELETE CASCADE,
    made_at       timestamptz NOT NULL,
    until         timestamptz NOT NULL,
    worst         bigint      NOT NULL, -- seconds
    bytes         bigint      NOT NULL, -- across the link
    within        real        NOT NULL,
    seeded_at     timestamptz,
    came_worst    bigint,
    came_bytes    bigint,
    came_within   real,
    came_seeded   timestamptz,
    PRIMARY KEY (group_id, made_at)
);
CREATE INDEX forecasts_open ON forecasts (until) WHERE came_worst IS NULL;

-- +goose Down
DROP TABLE forecasts;
