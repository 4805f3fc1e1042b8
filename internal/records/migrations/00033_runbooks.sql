-- +goose Up
-- DNS servers whose names steps of runbooks change.
CREATE TABLE dns_servers (
    id        uuid PRIMARY KEY,
    name      text  NOT NULL,
    address   text  NOT NULL, -- HOST:PORT
    key_name  text  NOT NULL,
    algorithm text  NOT NULL,
    secret    bytea NOT NULL, -- sealed
    names     text  NOT NULL -- that may be changed, between spaces
);
CREATE UNIQUE INDEX dns_servers_name ON dns_servers (lower(name));

-- +goose Down
DROP TABLE dns_servers;
