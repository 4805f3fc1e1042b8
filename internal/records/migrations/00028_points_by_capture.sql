-- +goose Up
-- Lists of the points of all groups, newest first.
CREATE INDEX points_by_capture ON points (capture_at DESC, id);

-- +goose Down
DROP INDEX points_by_capture;
