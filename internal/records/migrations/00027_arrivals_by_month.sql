-- +goose Up
-- Arrivals are many: cut by months, so that those that are too old go at once. What falls
-- into no month that there is, as points that are adopted, goes elsewhere.
ALTER TABLE arrivals RENAME TO arrivals_before;
DROP INDEX arrivals_by_time;
CREATE TABLE arrivals (
    group_id   uuid        NOT NULL,
    capture_at timestamptz NOT NULL,
    sealed_at  timestamptz NOT NULL,
    PRIMARY KEY (group_id, sealed_at, capture_at)
) PARTITION BY RANGE (sealed_at);
CREATE TABLE arrivals_else PARTITION OF arrivals DEFAULT;
INSERT INTO arrivals SELECT group_id, capture_at, sealed_at FROM arrivals_before;
DROP TABLE arrivals_before;

-- +goose Down
ALTER TABLE arrivals RENAME TO arrivals_by_month;
CREATE TABLE arrivals (
    group_id   uuid        NOT NULL,
    capture_at timestamptz NOT NULL,
    sealed_at  timestamptz NOT NULL,
    PRIMARY KEY (group_id, capture_at, sealed_at)
);
CREATE INDEX arrivals_by_time ON arrivals (group_id, sealed_at);
INSERT INTO arrivals SELECT * FROM arrivals_by_month;
DROP TABLE arrivals_by_month;
