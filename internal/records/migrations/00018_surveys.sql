-- +goose Up
-- Watching how much machines change before they are protected.
CREATE TABLE surveys (
    id         uuid PRIMARY KEY,
    name       text NOT NULL,
    started_at timestamptz NOT NULL,
    ends_at    timestamptz NOT NULL,
    ended_at   timestamptz,
    started_by text NOT NULL,
    machines   jsonb NOT NULL
);
CREATE TABLE survey_samples (
    survey        uuid NOT NULL REFERENCES surveys ON DELETE CASCADE,
    machine       text NOT NULL,
    from_at       timestamptz NOT NULL,
    after_seconds bigint NOT NULL,
    bytes         bigint NOT NULL,
    PRIMARY KEY (survey, machine, from_at, after_seconds)
);

-- +goose Down
DROP TABLE survey_samples;
DROP TABLE surveys;
