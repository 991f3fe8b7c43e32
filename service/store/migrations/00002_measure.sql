-- +goose Up

-- What an agent tells of its host beside its devices.
ALTER TABLE hosts
    ADD renderers  jsonb NOT NULL DEFAULT '[]',
    ADD folder     jsonb,                        -- where it renders to
    ADD looked_for text NOT NULL DEFAULT '',     -- the sum of the list of input files that it looked for
    ADD missing    jsonb NOT NULL DEFAULT '[]';  -- those of them that are not there

CREATE TABLE licences (
    pool  text PRIMARY KEY,
    kind  text NOT NULL CHECK (kind IN ('floating', 'single-user', 'host')),
    seats integer NOT NULL CHECK (seats >= 0)
);

-- Times that were measured elsewhere, as they were imported.
CREATE TABLE times (
    id        bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    import_id uuid NOT NULL,
    shot      text NOT NULL,
    data      jsonb NOT NULL,
    at        timestamptz NOT NULL
);
CREATE INDEX times_of_shot ON times (shot);
CREATE INDEX times_of_import ON times (import_id);

CREATE TABLE sweeps (
    id         uuid PRIMARY KEY,
    shot       text NOT NULL,
    request    bytea NOT NULL,
    state      text NOT NULL CHECK (state IN ('running', 'complete', 'ended')),
    why        text NOT NULL DEFAULT '',
    budget_s   double precision NOT NULL,
    goal       double precision NOT NULL,
    frames     integer NOT NULL,
    created_at timestamptz NOT NULL,
    ended_at   timestamptz
);
CREATE INDEX sweeps_newest ON sweeps (created_at DESC, id DESC);
CREATE INDEX sweeps_open ON sweeps (id) WHERE state = 'running';

-- The same frame may be rendered several times in a trial.
ALTER TABLE frames
    ADD repeat      smallint NOT NULL DEFAULT 0,
    ADD format      text NOT NULL DEFAULT 'png',
    ADD memory_mode text NOT NULL DEFAULT '',    -- spill or cpu: permitted after it ran out of memory
    ADD only_on     text[] NOT NULL DEFAULT '{}', -- host/crew that may have it; none: any
    DROP CONSTRAINT frames_run_id_shot_frame_warm_up_key,
    ADD UNIQUE (run_id, shot, frame, warm_up, repeat);
DROP INDEX frames_waiting;
CREATE INDEX frames_waiting ON frames (run_id, shot, warm_up DESC, repeat, frame) WHERE state = 'waiting';

ALTER TABLE bookings
    ADD barred      text NOT NULL DEFAULT '',    -- why it gets no more frames
    ADD memory_mode text NOT NULL DEFAULT '';    -- as for a frame, for all that it takes

ALTER TABLE trials
    ADD precision double precision,              -- repeat until the median is known to within it
    ADD max_s     double precision,              -- after which no repeat begins
    ADD sweep_id  uuid REFERENCES sweeps ON DELETE SET NULL,
    ADD why       text NOT NULL DEFAULT '';
CREATE INDEX trials_of_sweep ON trials (sweep_id);

CREATE TABLE studies (
    id         uuid PRIMARY KEY,
    request    bytea NOT NULL,
    shot       text NOT NULL,
    host       text NOT NULL,
    crew       text NOT NULL,
    frame      integer NOT NULL,
    variants   jsonb NOT NULL,                   -- each with the run that renders it
    distances  jsonb NOT NULL DEFAULT '{}',      -- from the first, by place in variants; a done picture never changes
    created_at timestamptz NOT NULL
);
CREATE INDEX studies_newest ON studies (created_at DESC, id DESC);

-- What devices did over time: one row for each report of an agent, kept in full
-- for a while and then thinned.
CREATE TABLE samples (
    host text NOT NULL,
    at   timestamptz NOT NULL,                   -- by the service's clock
    wall timestamptz NOT NULL,
    data jsonb NOT NULL,
    PRIMARY KEY (host, at)
);
CREATE INDEX samples_old ON samples (wall);

-- +goose Down
DROP TABLE samples, studies, times, licences;
ALTER TABLE trials DROP precision, DROP max_s, DROP sweep_id, DROP why;
DROP TABLE sweeps;
ALTER TABLE bookings DROP barred, DROP memory_mode;
ALTER TABLE frames DROP repeat, DROP format, DROP memory_mode, DROP only_on, ADD UNIQUE (run_id, shot, frame, warm_up);
CREATE INDEX IF NOT EXISTS frames_waiting ON frames (run_id, shot, warm_up DESC, frame) WHERE state = 'waiting';
ALTER TABLE hosts DROP renderers, DROP folder, DROP looked_for, DROP missing;
