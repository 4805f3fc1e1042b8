-- +goose Up
-- Every instant is written by the service from its clock; the database never
-- supplies one, so that time stays a value that tests and rehearsals control.
CREATE TABLE site (
    singleton   boolean PRIMARY KEY DEFAULT true CHECK (singleton),
    id          uuid NOT NULL,
    name        text NOT NULL,
    created_at  timestamptz NOT NULL
);
CREATE TABLE people (
    id            uuid PRIMARY KEY,
    name          text NOT NULL UNIQUE,
    password_hash text NOT NULL,
    created_at    timestamptz NOT NULL
);
-- Secrets of people and programs are kept as hashes only.
CREATE TABLE secrets (
    id           uuid PRIMARY KEY,
    kind         text NOT NULL CHECK (kind IN ('session', 'token', 'welcome')),
    hash         bytea NOT NULL UNIQUE,
    person       uuid REFERENCES people ON DELETE CASCADE,
    name         text NOT NULL DEFAULT '',
    created_at   timestamptz NOT NULL,
    expires_at   timestamptz,
    last_used_at timestamptz
);
CREATE TABLE platforms (
    id         uuid PRIMARY KEY,
    name       text NOT NULL UNIQUE,
    kind       text NOT NULL,
    address    text NOT NULL,
    username   text NOT NULL,
    password   bytea NOT NULL, -- encrypted with the site's key file
    created_at timestamptz NOT NULL
);
CREATE TABLE invitations (
    id         uuid PRIMARY KEY,
    hash       bytea NOT NULL UNIQUE,
    for_site   text NOT NULL DEFAULT '',
    created_by text NOT NULL,
    created_at timestamptz NOT NULL,
    expires_at timestamptz NOT NULL,
    used_at    timestamptz
);
CREATE TABLE links (
    id         uuid PRIMARY KEY,
    peer_id    uuid NOT NULL UNIQUE,
    peer_name  text NOT NULL,
    address    text NOT NULL,
    peer_key   bytea NOT NULL, -- SHA-256 of the peer's public key
    created_at timestamptz NOT NULL
);
CREATE TABLE groups (
    id              uuid PRIMARY KEY,
    name            text NOT NULL,
    direction       text NOT NULL CHECK (direction IN ('out', 'in', 'ended')),
    link            uuid REFERENCES links,
    home_id         uuid NOT NULL,
    home_name       text NOT NULL,
    recovery_name   text NOT NULL,
    term            bigint NOT NULL,
    revision        bigint NOT NULL,
    settings        jsonb NOT NULL,
    paused          boolean NOT NULL DEFAULT false,
    anchor          timestamptz NOT NULL,
    last_start      timestamptz,
    base_checkpoint text NOT NULL DEFAULT '',
    base_point      text NOT NULL DEFAULT '',
    created_at      timestamptz NOT NULL
);
CREATE UNIQUE INDEX groups_name ON groups (name, home_id) WHERE direction <> 'ended';
CREATE TABLE cycles (
    id         uuid PRIMARY KEY,
    group_id   uuid NOT NULL REFERENCES groups ON DELETE CASCADE,
    number     bigint NOT NULL,
    state      text NOT NULL,
    started_at timestamptz NOT NULL,
    ended_at   timestamptz,
    detail     jsonb NOT NULL,
    UNIQUE (group_id, number)
);
CREATE INDEX cycles_open ON cycles (group_id) WHERE ended_at IS NULL;
-- One row a landing: the exposure curve follows from them exactly, so nothing
-- is sampled. Both instants are on this site's clock.
CREATE TABLE drops (
    group_id   uuid NOT NULL,
    capture_at timestamptz NOT NULL,
    sealed_at  timestamptz NOT NULL,
    PRIMARY KEY (group_id, capture_at, sealed_at)
);
CREATE INDEX drops_by_time ON drops (group_id, sealed_at);
CREATE TABLE points (
    id           uuid PRIMARY KEY,
    group_id     uuid NOT NULL REFERENCES groups ON DELETE CASCADE,
    capture_at   timestamptz NOT NULL, -- on this site's clock
    held         boolean NOT NULL,     -- in this site's own store
    pinned       boolean NOT NULL DEFAULT false,
    pinned_until timestamptz,
    seal         jsonb NOT NULL
);
CREATE INDEX points_by_group ON points (group_id, capture_at DESC);
CREATE TABLE shares (
    id         uuid PRIMARY KEY,
    point      uuid NOT NULL,
    token      text NOT NULL,
    created_by text NOT NULL,
    created_at timestamptz NOT NULL
);
CREATE TABLE operations (
    id         uuid PRIMARY KEY,
    kind       text NOT NULL,
    subject    text NOT NULL,
    state      text NOT NULL,
    started_at timestamptz NOT NULL,
    ended_at   timestamptz,
    started_by text NOT NULL,
    detail     jsonb NOT NULL
);
CREATE INDEX operations_by_time ON operations (started_at DESC);
CREATE TABLE activity (
    id      bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    at      timestamptz NOT NULL,
    who     text NOT NULL,
    kind    text NOT NULL,
    subject text NOT NULL,
    text    text NOT NULL
);
