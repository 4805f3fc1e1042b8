-- +goose Up
-- What was measured again and again of groups, links and the stores, by steps of time.
CREATE TABLE measures (
    step    text             NOT NULL, -- quarter (of an hour), hour or day
    subject uuid             NOT NULL, -- a group, a link, or this site for its stores
    what    text             NOT NULL,
    at      timestamptz      NOT NULL, -- beginning of the step
    n       int              NOT NULL,
    sum     double precision NOT NULL,
    least   double precision NOT NULL,
    most    double precision NOT NULL,
    PRIMARY KEY (step, subject, what, at)
) PARTITION BY LIST (step);
CREATE TABLE measures_quarter PARTITION OF measures FOR VALUES IN ('quarter') PARTITION BY RANGE (at);
CREATE TABLE measures_hour PARTITION OF measures FOR VALUES IN ('hour') PARTITION BY RANGE (at);
CREATE TABLE measures_day PARTITION OF measures FOR VALUES IN ('day') PARTITION BY RANGE (at);

-- +goose Down
DROP TABLE measures;
