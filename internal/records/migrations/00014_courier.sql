-- +goose Up
-- Up to which line the trail was sent to a log server.
CREATE TABLE trail_sent (
    address text PRIMARY KEY,
    number  bigint NOT NULL
);

-- +goose Down
DROP TABLE trail_sent;
