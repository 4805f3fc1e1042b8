-- +goose Up
-- Who did what, from where, to which thing, and what changed from what to what.
ALTER TABLE activity ADD COLUMN actor text NOT NULL DEFAULT '';
ALTER TABLE activity ADD COLUMN origin text NOT NULL DEFAULT '';
ALTER TABLE activity ADD COLUMN object text NOT NULL DEFAULT '';
ALTER TABLE activity ADD COLUMN revision bigint;
ALTER TABLE activity ADD COLUMN changes jsonb NOT NULL DEFAULT '[]';
CREATE INDEX activity_by_object ON activity (object, revision) WHERE object <> '';

-- People and tokens have a role, and may be limited to groups with a tag. Names
-- that differ in case only are one.
ALTER TABLE people ADD COLUMN role text NOT NULL DEFAULT 'administrator' CHECK (role IN ('viewer', 'operator', 'administrator'));
ALTER TABLE people ADD COLUMN tags text[] NOT NULL DEFAULT '{}';
CREATE UNIQUE INDEX people_name ON people (lower(name));
ALTER TABLE secrets ADD COLUMN role text NOT NULL DEFAULT 'administrator' CHECK (role IN ('viewer', 'operator', 'administrator'));
ALTER TABLE secrets ADD COLUMN tags text[] NOT NULL DEFAULT '{}';

-- A key is one site's, and a site has one key. A known site gets another key only
-- by an invitation that says so.
CREATE UNIQUE INDEX links_key ON links (peer_key);
ALTER TABLE invitations ADD COLUMN new_key boolean NOT NULL DEFAULT false;

-- Whether a group is paused is one of its settings, with a reason and an end.
UPDATE groups SET settings = settings || jsonb_build_object('paused', paused);
ALTER TABLE groups DROP COLUMN paused;
DROP INDEX groups_name;
CREATE UNIQUE INDEX groups_name ON groups (lower(name), home_id) WHERE direction <> 'ended';

-- A machine is of one group of this site.
CREATE TABLE group_machines (
    platform text NOT NULL,
    machine  text NOT NULL,
    group_id uuid NOT NULL REFERENCES groups ON DELETE CASCADE,
    PRIMARY KEY (platform, machine)
);
CREATE INDEX group_machines_by_group ON group_machines (group_id);
INSERT INTO group_machines SELECT g.settings->>'platform', m->>'id', g.id
    FROM groups g, jsonb_array_elements(g.settings->'machines') m WHERE g.direction = 'out' ON CONFLICT DO NOTHING;

-- What cycles know of a group is theirs, not its settings'.
CREATE TABLE replications (
    group_id        uuid PRIMARY KEY REFERENCES groups ON DELETE CASCADE,
    last_start      timestamptz,
    base_checkpoint text NOT NULL DEFAULT '',
    base_point      text NOT NULL DEFAULT '',
    compared_at     timestamptz
);
INSERT INTO replications SELECT id, last_start, base_checkpoint, base_point, compared_at FROM groups;
ALTER TABLE groups DROP COLUMN last_start, DROP COLUMN base_checkpoint, DROP COLUMN base_point, DROP COLUMN compared_at;

-- The target that was promised from an instant on: the past is judged by it.
CREATE TABLE targets (
    group_id       uuid NOT NULL,
    since          timestamptz NOT NULL,
    target_seconds bigint NOT NULL,
    PRIMARY KEY (group_id, since)
);
INSERT INTO targets SELECT id, created_at, (settings->'promise'->>'rpoTargetSeconds')::bigint FROM groups WHERE settings->'promise'->>'rpoTargetSeconds' IS NOT NULL;

ALTER TABLE drops RENAME TO arrivals;
ALTER INDEX drops_by_time RENAME TO arrivals_by_time;
ALTER TABLE shares RENAME TO served;
ALTER TABLE points ADD COLUMN pin_reason text NOT NULL DEFAULT '';
ALTER TABLE points ADD COLUMN pinned_by text NOT NULL DEFAULT '';

-- Long work is taken up again after a restart. Whoever works on it holds a lease;
-- the epoch rises with each holder, and every write names it.
ALTER TABLE operations ADD COLUMN input jsonb NOT NULL DEFAULT '{}';
ALTER TABLE operations ADD COLUMN progress jsonb NOT NULL DEFAULT '{}';
ALTER TABLE operations ADD COLUMN message text NOT NULL DEFAULT '';
ALTER TABLE operations ADD COLUMN holder text NOT NULL DEFAULT '';
ALTER TABLE operations ADD COLUMN epoch bigint NOT NULL DEFAULT 0;
ALTER TABLE operations ADD COLUMN lease_until timestamptz;
ALTER TABLE operations ADD COLUMN stop_asked boolean NOT NULL DEFAULT false;
UPDATE operations SET message = coalesce(detail->>'message', ''), progress = jsonb_build_object('done', detail->'doneBytes', 'total', detail->'totalBytes', 'log', detail->'log');
UPDATE operations SET state = 'stopped', ended_at = coalesce(ended_at, started_at), message = 'Cut off by an update of the service. Start it again.' WHERE state = 'running';
ALTER TABLE operations DROP COLUMN detail;
CREATE INDEX operations_open ON operations (started_at) WHERE ended_at IS NULL;
