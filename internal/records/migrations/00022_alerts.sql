-- +goose Up
-- What somebody had or has to be told of: of one cause one is open.
CREATE TABLE alerts (
    id           uuid        PRIMARY KEY,
    kind         text        NOT NULL,
    thing_kind   text        NOT NULL,
    thing_id     text        NOT NULL,
    name         text        NOT NULL,
    group_id     text        NOT NULL DEFAULT '', -- that it is about; empty is none
    group_tier   text        NOT NULL DEFAULT '',
    group_tags   text[]      NOT NULL DEFAULT '{}',
    level        text        NOT NULL,
    text         text        NOT NULL,
    mend         text        NOT NULL,
    members      text[]      NOT NULL DEFAULT '{}',
    since        timestamptz NOT NULL,
    raised_at    timestamptz NOT NULL,
    gone_at      timestamptz,
    cleared_at   timestamptz,
    told_at      timestamptz,
    escalated_at timestamptz,
    acked_at     timestamptz,
    acked_by     text        NOT NULL DEFAULT '',
    ack_note     text        NOT NULL DEFAULT '',
    silenced     text        NOT NULL DEFAULT '',
    part_of      text        NOT NULL DEFAULT ''
);
CREATE UNIQUE INDEX alerts_open ON alerts (kind, thing_kind, thing_id) WHERE cleared_at IS NULL;
CREATE INDEX alerts_raised ON alerts (raised_at DESC, id);

-- The rules that are not the usual ones, as one document.
CREATE TABLE alert_rules (
    one      boolean PRIMARY KEY DEFAULT true CHECK (one),
    revision bigint  NOT NULL,
    rules    jsonb   NOT NULL
);
INSERT INTO alert_rules (revision, rules) VALUES (0, '[]');

CREATE TABLE silences (
    id         uuid        PRIMARY KEY,
    body       jsonb       NOT NULL,
    made_by    text        NOT NULL,
    made_at    timestamptz NOT NULL,
    over_at    timestamptz -- null: again and again, or until it is ended
);

-- Where people are told.
CREATE TABLE channels (
    id       uuid   PRIMARY KEY,
    name     text   NOT NULL,
    kind     text   NOT NULL,
    revision bigint NOT NULL DEFAULT 1,
    body     jsonb  NOT NULL,
    secret   bytea, -- sealed
    digested_at timestamptz -- the last morning that a digest was made of
);
CREATE UNIQUE INDEX channels_name ON channels (lower(name));

-- What is to be delivered, and what was: in order, by channel.
CREATE TABLE messages (
    id          uuid        PRIMARY KEY,
    channel_id  uuid        NOT NULL REFERENCES channels ON DELETE CASCADE,
    number      bigint      GENERATED ALWAYS AS IDENTITY,
    event       text        NOT NULL,
    alert_id    uuid        REFERENCES alerts ON DELETE CASCADE,
    body        jsonb       NOT NULL,
    created_at  timestamptz NOT NULL,
    next_at     timestamptz NOT NULL,
    tries       int         NOT NULL DEFAULT 0,
    sent_at     timestamptz,
    given_up_at timestamptz,
    error       text        NOT NULL DEFAULT '',
    UNIQUE (alert_id, channel_id, event)
);
CREATE INDEX messages_open ON messages (channel_id, number) WHERE sent_at IS NULL AND given_up_at IS NULL;
CREATE INDEX messages_done ON messages (channel_id, number DESC);

-- +goose Down
DROP TABLE messages;
DROP TABLE channels;
DROP TABLE silences;
DROP TABLE alert_rules;
DROP TABLE alerts;
