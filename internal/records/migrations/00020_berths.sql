-- +goose Up
-- How machines arrive here: defaults of links and platforms, and what is said of groups.
-- What is said of something goes with it.
CREATE TABLE berths (
    kind        text   NOT NULL CHECK (kind IN ('group', 'link', 'platform')),
    subject     uuid   NOT NULL,
    revision    bigint NOT NULL,
    settings    jsonb  NOT NULL,
    group_id    uuid GENERATED ALWAYS AS (CASE kind WHEN 'group' THEN subject END) STORED REFERENCES groups ON DELETE CASCADE,
    link_id     uuid GENERATED ALWAYS AS (CASE kind WHEN 'link' THEN subject END) STORED REFERENCES links ON DELETE CASCADE,
    platform_id uuid GENERATED ALWAYS AS (CASE kind WHEN 'platform' THEN subject END) STORED REFERENCES platforms ON DELETE CASCADE,
    PRIMARY KEY (kind, subject)
);

-- +goose Down
DROP TABLE berths;
