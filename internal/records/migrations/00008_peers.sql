-- +goose Up
-- Points that another site wants deleted: they go when it is due, unless somebody
-- here stops it.
CREATE TABLE deletions (
    group_id uuid PRIMARY KEY REFERENCES groups ON DELETE CASCADE,
    asked_at timestamptz NOT NULL,
    asked_by text NOT NULL,
    due_at   timestamptz NOT NULL
);

-- Ladders that another site made shorter: points from before are thinned no faster
-- than this site's own least ladder allows.
CREATE TABLE shortenings (
    group_id uuid NOT NULL REFERENCES groups ON DELETE CASCADE,
    at       timestamptz NOT NULL,
    before   text NOT NULL,
    PRIMARY KEY (group_id, at)
);

-- +goose Down
DROP TABLE shortenings;
DROP TABLE deletions;
