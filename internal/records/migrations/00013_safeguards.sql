-- +goose Up
-- What a site demands of its people.
CREATE TABLE safeguards (
    one           boolean PRIMARY KEY DEFAULT true CHECK (one),
    second_factor text[] NOT NULL DEFAULT '{}', -- roles that have to have one
    consent       text[] NOT NULL DEFAULT '{}', -- acts that need a second person
    consent_hours integer NOT NULL DEFAULT 24 CHECK (consent_hours BETWEEN 1 AND 168),
    waived_until  timestamptz                   -- nobody has to consent until then; set on the host only
);
INSERT INTO safeguards DEFAULT VALUES;

-- The seed of somebody's one-time codes, encrypted with the site's key file. Step is
-- that of the code that was used last: none is good twice.
CREATE TABLE second_factors (
    person       uuid PRIMARY KEY REFERENCES people ON DELETE CASCADE,
    seed         bytea NOT NULL,
    confirmed_at timestamptz,
    step         bigint NOT NULL DEFAULT 0
);
CREATE TABLE recovery_codes (
    person uuid NOT NULL REFERENCES second_factors ON DELETE CASCADE,
    hash   bytea NOT NULL,
    PRIMARY KEY (person, hash)
);

-- Acts that wait for a second person, or may be done once since one consented. The
-- digest is of what exactly was asked.
CREATE TABLE consents (
    id          uuid PRIMARY KEY,
    kind        text NOT NULL,
    what        text NOT NULL,
    digest      bytea NOT NULL,
    tags        text[] NOT NULL DEFAULT '{}',
    on_group    boolean NOT NULL DEFAULT false,
    person      uuid NOT NULL,
    asked_by    text NOT NULL,
    asked_at    timestamptz NOT NULL,
    until       timestamptz NOT NULL,
    answer      text NOT NULL DEFAULT '' CHECK (answer IN ('', 'given', 'refused', 'withdrawn', 'expired', 'used')),
    answered_by text NOT NULL DEFAULT '',
    answered_at timestamptz
);
CREATE UNIQUE INDEX consents_open ON consents (person, digest) WHERE answer IN ('', 'given');

-- +goose Down
DROP TABLE consents;
DROP TABLE recovery_codes;
DROP TABLE second_factors;
DROP TABLE safeguards;
