-- +goose Up
-- Groups that have been turned to the other site, or given back: held (here, not accepted
-- yet), returned (home has yet to hear of it), ceded (given away by this site, which was
-- home), away (this site was home, and has heard that another is). Empty is none of these.
ALTER TABLE groups ADD COLUMN turned text NOT NULL DEFAULT '' CHECK (turned IN ('', 'held', 'returned', 'ceded', 'away'));
-- The machines that a group had here before it became home elsewhere: they may run still.
ALTER TABLE groups ADD COLUMN former jsonb;
-- Which save of a recovery is the newest: an older one never takes its place.
ALTER TABLE recoveries ADD COLUMN saves bigint NOT NULL DEFAULT 0;

-- +goose Down
ALTER TABLE recoveries DROP COLUMN saves;
ALTER TABLE groups DROP COLUMN former;
ALTER TABLE groups DROP COLUMN turned;
