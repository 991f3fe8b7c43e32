-- +goose Up
-- What is asked for of a run's chance; null where nothing was.
ALTER TABLE schedules ADD wanted double precision;

CREATE TABLE receivers (
    name       text PRIMARY KEY,
    address    text NOT NULL,                -- https: a web hook; mailto: a mailbox
    subjects   jsonb NOT NULL,
    quiet      jsonb,                        -- hours in which it is told nothing
    secret     bytea,                        -- sealed; of a web hook, what it is signed with
    created_at timestamptz NOT NULL,
    tries      integer NOT NULL DEFAULT 0,   -- that failed since one did not
    fault      text NOT NULL DEFAULT '',
    next_at    timestamptz NOT NULL          -- not told anything before
);
CREATE TABLE notices (
    id       uuid PRIMARY KEY,
    receiver text NOT NULL REFERENCES receivers ON DELETE CASCADE,
    key      text NOT NULL,                  -- what it is about: told once while it is so
    subject  text NOT NULL,
    run_id   uuid,
    text     text NOT NULL,
    at       timestamptz NOT NULL,
    over_at  timestamptz,                    -- from when it was so no more
    state    text NOT NULL CHECK (state IN ('waiting', 'sent', 'failed', 'over')),
    sent_at  timestamptz
);
CREATE UNIQUE INDEX notices_open ON notices (receiver, key) WHERE over_at IS NULL;
CREATE INDEX notices_waiting ON notices (receiver, at, id) WHERE state = 'waiting';
-- What ended is looked for every few seconds.
CREATE INDEX runs_ended ON runs (ended_at) WHERE kind = 'run';
CREATE INDEX notices_newest ON notices (at DESC, id DESC);

-- +goose Down
DROP INDEX runs_ended;
DROP TABLE notices;
DROP TABLE receivers;
ALTER TABLE schedules DROP COLUMN wanted;
