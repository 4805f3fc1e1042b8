-- +goose Up
-- Besides the target: which tier the group followed, and whether cycles were held on purpose.
ALTER TABLE targets ADD COLUMN tier text NOT NULL DEFAULT '', ADD COLUMN paused text, ADD COLUMN paused_until timestamptz;
INSERT INTO targets SELECT id, now(), (settings->'promise'->>'rpoTargetSeconds')::bigint, coalesce(settings->'tier'->'tier'->>'name', ''), CASE WHEN settings ? 'pause' THEN coalesce(settings->'pause'->>'reason', '') END, (settings->'pause'->>'until')::timestamptz
    FROM groups WHERE settings->'promise'->>'rpoTargetSeconds' IS NOT NULL AND (settings ? 'pause' OR settings ? 'tier');

-- What cycles of a group did, by hours and by days in UTC: sums, and the most of one.
CREATE TABLE tallies (
    group_id uuid        NOT NULL,
    step     text        NOT NULL, -- hour or day
    at       timestamptz NOT NULL, -- its beginning
    sealed   int         NOT NULL DEFAULT 0,
    failed   int         NOT NULL DEFAULT 0, -- that were cut off by a fault, or gave no point
    missed   int         NOT NULL DEFAULT 0, -- starts of the cadence that passed without one
    changed  bigint      NOT NULL DEFAULT 0, -- bytes
    wire     bigint      NOT NULL DEFAULT 0, -- bytes across the link
    took     bigint      NOT NULL DEFAULT 0, -- milliseconds
    changed_most bigint  NOT NULL DEFAULT 0,
    wire_most    bigint  NOT NULL DEFAULT 0,
    took_most    bigint  NOT NULL DEFAULT 0,
    waited_most  bigint  NOT NULL DEFAULT 0, -- milliseconds, due before it began
    dense_most   bigint  NOT NULL DEFAULT 0, -- bytes across the link that could not be compressed
    zeroed_most  bigint  NOT NULL DEFAULT 0, -- bytes that were emptied
    PRIMARY KEY (step, at, group_id)
) PARTITION BY LIST (step);
CREATE TABLE tallies_hour PARTITION OF tallies FOR VALUES IN ('hour') PARTITION BY RANGE (at);
CREATE TABLE tallies_day PARTITION OF tallies FOR VALUES IN ('day') PARTITION BY RANGE (at);
CREATE INDEX tallies_group ON tallies (group_id, step, at);

-- +goose Down
DROP TABLE tallies;
ALTER TABLE targets DROP COLUMN tier, DROP COLUMN paused, DROP COLUMN paused_until;
