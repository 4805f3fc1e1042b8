-- +goose Up
-- Named promises, and what they were.
CREATE TABLE tiers (
    id       uuid PRIMARY KEY,
    name     text NOT NULL,
    revision bigint NOT NULL,
    settings jsonb NOT NULL
);
CREATE UNIQUE INDEX tiers_name ON tiers (lower(name));
CREATE TABLE tier_history (
    tier     uuid NOT NULL REFERENCES tiers ON DELETE CASCADE,
    revision bigint NOT NULL,
    settings jsonb NOT NULL,
    at       timestamptz NOT NULL,
    who      text NOT NULL,
    PRIMARY KEY (tier, revision)
);

-- +goose Down
DROP TABLE tier_history;
DROP TABLE tiers;
