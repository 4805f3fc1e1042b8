-- +goose Up
-- Groups that have ended at home while their recovery site could not be told.
CREATE TABLE farewells (
    group_id uuid PRIMARY KEY,
    link     uuid NOT NULL REFERENCES links ON DELETE CASCADE
);

-- +goose Down
DROP TABLE farewells;
