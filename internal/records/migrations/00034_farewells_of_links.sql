-- +goose Up
-- A group may leave one site after the other before either could be told.
ALTER TABLE farewells DROP CONSTRAINT farewells_pkey, ADD PRIMARY KEY (group_id, link);

-- +goose Down
DELETE FROM farewells a USING farewells b WHERE a.group_id = b.group_id AND a.link > b.link;
ALTER TABLE farewells DROP CONSTRAINT farewells_pkey, ADD PRIMARY KEY (group_id);
