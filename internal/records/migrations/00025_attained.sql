-- +goose Up
-- How promises were kept, by whole days of UTC that are over: summed up once, from arrivals and
-- what was promised then, neither of which changes afterwards.
CREATE TABLE attained_days (at timestamptz PRIMARY KEY); -- those that are summed up
CREATE TABLE attained (
    at          timestamptz NOT NULL REFERENCES attained_days ON DELETE CASCADE,
    group_id    uuid        NOT NULL,
    tier        text        NOT NULL, -- that was followed; empty is none
    covered     bigint      NOT NULL, -- nanoseconds, as all times here
    over        bigint      NOT NULL,
    paused      bigint      NOT NULL,
    paused_over bigint      NOT NULL,
    worst       bigint      NOT NULL,
    worst_at    timestamptz NOT NULL,
    PRIMARY KEY (at, group_id, tier)
);
CREATE INDEX attained_by_group ON attained (group_id, at);

-- +goose Down
DROP TABLE attained;
DROP TABLE attained_days;
