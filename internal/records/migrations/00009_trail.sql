-- +goose Up
-- Lines of the trail follow from one another, so that what is done to them shows.
-- Lines from before have no number and are not vouched for.
ALTER TABLE activity ADD COLUMN number bigint UNIQUE;
ALTER TABLE activity ADD COLUMN hash bytea;
CREATE TABLE trail_end (
    one    boolean PRIMARY KEY DEFAULT true CHECK (one),
    number bigint NOT NULL,
    hash   bytea
);
INSERT INTO trail_end (number) VALUES (0);

-- The newest line, as this site signed it now and then, and as others told of theirs.
CREATE TABLE trail_heads (
    site      uuid NOT NULL, -- whose trail it is
    number    bigint NOT NULL,
    hash      bytea NOT NULL,
    at        timestamptz NOT NULL,
    signature bytea NOT NULL,
    PRIMARY KEY (site, number)
);

-- +goose StatementBegin
CREATE FUNCTION only_added_to() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
    RAISE EXCEPTION 'the trail is only added to';
END $$;
-- +goose StatementEnd
CREATE TRIGGER activity_stays BEFORE UPDATE OR DELETE ON activity FOR EACH ROW EXECUTE FUNCTION only_added_to();
CREATE TRIGGER activity_stays_whole BEFORE TRUNCATE ON activity FOR EACH STATEMENT EXECUTE FUNCTION only_added_to();

-- +goose Down
DROP TRIGGER activity_stays_whole ON activity;
DROP TRIGGER activity_stays ON activity;
DROP FUNCTION only_added_to;
DROP TABLE trail_heads;
DROP TABLE trail_end;
ALTER TABLE activity DROP COLUMN hash, DROP COLUMN number;
