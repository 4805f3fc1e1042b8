-- +goose Up
-- Reports that are sent by calendar.
CREATE TABLE report_plans (
    id       uuid        PRIMARY KEY,
    name     text        NOT NULL,
    revision bigint      NOT NULL,
    body     jsonb       NOT NULL,
    made_at  timestamptz NOT NULL,
    sent_for timestamptz -- the last time of its calendar that one was sent for
);
CREATE UNIQUE INDEX report_plans_name ON report_plans (lower(name));

-- +goose Down
DROP TABLE report_plans;
