-- +goose Up
-- How machines arrive here: defaults of links and platforms, and what is said of groups.
CREATE TABLE berths (
    kind     text   NOT NULL CHECK (kind IN ('group', 'link', 'platform')),
    subject  uuid   NOT NULL,
    revision bigint NOT NULL,
    settings jsonb  NOT NULL,
    PRIMARY KEY (kind, subject)
);

-- +goose Down
DROP TABLE berths;
