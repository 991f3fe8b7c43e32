-- +goose Up

-- What takes the planner's or the forecast's time is computed in the background: the
-- question as it was put, how far it is, and its answer.
CREATE TABLE computations (
    id uuid PRIMARY KEY,
    kind text NOT NULL,
    about text NOT NULL,
    asked_by text NOT NULL,
    token_id bigint NOT NULL,
    question jsonb NOT NULL,
    state text NOT NULL CHECK (state IN ('waiting', 'computing', 'done', 'failed', 'cancelled')),
    starts integer NOT NULL DEFAULT 0,
    done integer NOT NULL DEFAULT 0,
    parts integer NOT NULL DEFAULT 0,
    doing text NOT NULL DEFAULT '',
    answer jsonb,
    problem jsonb,
    created_at timestamptz NOT NULL,
    ended_at timestamptz
);
CREATE INDEX computations_open ON computations (token_id) WHERE state IN ('waiting', 'computing');
CREATE INDEX computations_ended ON computations (ended_at);
CREATE INDEX computations_newest ON computations (created_at DESC, id DESC);

-- How sure a plan was to be in time when it was made, by its forecast.
ALTER TABLE plans ADD chance double precision;

-- +goose Down
ALTER TABLE plans DROP chance;
DROP TABLE computations;
