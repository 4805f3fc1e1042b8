-- +goose Up
-- Drills that begin by themselves: of which groups and when, which are still to be tried, and
-- what came of those that could not be.
CREATE TABLE drill_rounds (
    id        uuid        PRIMARY KEY,
    name      text        NOT NULL,
    body      jsonb       NOT NULL,
    made_at   timestamptz NOT NULL,
    begun_for timestamptz,
    pending   jsonb       NOT NULL DEFAULT '[]',
    refused   jsonb       NOT NULL DEFAULT '[]'
);
CREATE UNIQUE INDEX drill_rounds_name ON drill_rounds (lower(name));

-- +goose Down
DROP TABLE drill_rounds;
