-- +goose Up

CREATE TABLE settings (
    key   text PRIMARY KEY,
    value text NOT NULL
);

-- Tokens of people, browsers and agents; only a hash of each secret is kept.
CREATE TABLE tokens (
    id         bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    kind       text NOT NULL CHECK (kind IN ('access', 'session', 'join', 'agent')),
    name       text NOT NULL,
    role       text NOT NULL CHECK (role IN ('viewer', 'operator', 'admin', 'agent')),
    host       text,
    hash       bytea NOT NULL UNIQUE,
    created_at timestamptz NOT NULL,
    expires_at timestamptz,
    parent_id  bigint REFERENCES tokens ON DELETE CASCADE
);

CREATE TABLE hosts (
    name       text PRIMARY KEY,
    source     text NOT NULL,
    spec       jsonb NOT NULL,           -- as declared, devices as the agent found them
    found      boolean NOT NULL DEFAULT false,
    draining   boolean NOT NULL DEFAULT false,
    launchers  jsonb NOT NULL DEFAULT '[]',
    findings   jsonb NOT NULL DEFAULT '[]',
    boot       uuid,                     -- of the agent that spoke last
    agent_seen timestamptz,              -- by the wall clock
    server     boolean NOT NULL DEFAULT false
);

CREATE TABLE offers (
    name   text PRIMARY KEY,
    source text NOT NULL,
    spec   jsonb NOT NULL
);

CREATE TABLE shots (
    name        text PRIMARY KEY,
    spec        jsonb NOT NULL,
    frame_count integer NOT NULL,
    updated_at  timestamptz NOT NULL
);

CREATE TABLE plans (
    id         uuid PRIMARY KEY,
    created_at timestamptz NOT NULL,
    request    bytea NOT NULL,           -- SHA-256 of what was asked, to tell a repeat from a clash
    shots      jsonb NOT NULL,
    status     text NOT NULL,
    cost       numeric NOT NULL,
    cost_bound numeric NOT NULL,
    currency   text NOT NULL,
    problem    json NOT NULL,            -- json, not jsonb: the file as it was
    plan       json NOT NULL,
    notes      jsonb NOT NULL            -- basis of each timing, what was left out
);
CREATE INDEX plans_newest ON plans (created_at DESC, id DESC);

-- A run is a plan being carried out; a trial is carried out as a run of its own.
CREATE TABLE runs (
    id         uuid PRIMARY KEY,
    kind       text NOT NULL CHECK (kind IN ('run', 'trial')),
    plan_id    uuid REFERENCES plans,
    request    bytea NOT NULL,
    state      text NOT NULL CHECK (state IN ('running', 'paused', 'cancelled', 'complete', 'incomplete')),
    tries      integer NOT NULL,
    created_at timestamptz NOT NULL,
    ended_at   timestamptz
);
CREATE INDEX runs_newest ON runs (kind, created_at DESC, id DESC);
CREATE INDEX runs_open ON runs (id) WHERE state IN ('running', 'paused');

CREATE TABLE run_shots (
    run_id uuid NOT NULL REFERENCES runs ON DELETE CASCADE,
    shot   text NOT NULL,
    spec   jsonb NOT NULL,               -- as it was when the run began
    PRIMARY KEY (run_id, shot)
);

CREATE TABLE trials (
    run_id     uuid PRIMARY KEY REFERENCES runs ON DELETE CASCADE,
    shot       text NOT NULL,
    host       text NOT NULL,
    crew       text NOT NULL,
    models     jsonb NOT NULL,
    settings   jsonb NOT NULL
);
CREATE INDEX trials_of_shot ON trials (shot);

CREATE TABLE bookings (
    id       bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    run_id   uuid NOT NULL REFERENCES runs ON DELETE CASCADE,
    shot     text NOT NULL,
    host     text NOT NULL,
    crew     text NOT NULL,
    devices  jsonb NOT NULL,
    frames   integer NOT NULL,           -- 0: a reserve, that only helps out
    taken    integer NOT NULL DEFAULT 0, -- done or leased under this booking
    start_at timestamptz NOT NULL,
    end_at   timestamptz NOT NULL,
    close_at timestamptz,                -- the host's open hours end: no frame that would run past it
    frame_s  double precision NOT NULL,
    open     boolean NOT NULL DEFAULT true -- its run is running
);
CREATE INDEX bookings_of_host ON bookings (host, start_at) WHERE open;
CREATE INDEX bookings_of_run ON bookings (run_id, shot);

CREATE TABLE frames (
    id          bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    run_id      uuid NOT NULL REFERENCES runs ON DELETE CASCADE,
    shot        text NOT NULL,
    frame       integer NOT NULL,
    warm_up     boolean NOT NULL DEFAULT false,
    state       text NOT NULL DEFAULT 'waiting' CHECK (state IN ('waiting', 'leased', 'done', 'failed')),
    failures    integer NOT NULL DEFAULT 0,
    failed_on   text[] NOT NULL DEFAULT '{}', -- host/crew
    cause       text NOT NULL DEFAULT '',
    fence       bigint NOT NULL DEFAULT 0,
    host        text,
    crew        text,
    devices     jsonb,
    booking_id  bigint,
    boot        uuid,                         -- of the agent that holds the lease
    leased_at   timestamptz,
    lease_until timestamptz,                  -- by the wall clock
    progress    real NOT NULL DEFAULT 0,
    done_at     timestamptz,
    seconds     double precision,
    sha256      text,
    bytes       bigint,
    UNIQUE (run_id, shot, frame, warm_up)
) WITH (fillfactor = 70);
CREATE INDEX frames_waiting ON frames (run_id, shot, warm_up DESC, frame) WHERE state = 'waiting';
CREATE INDEX frames_leased ON frames (host, run_id) WHERE state = 'leased';
CREATE INDEX frames_done ON frames (run_id, done_at) WHERE state = 'done';

-- Every try, however it ended.
CREATE TABLE attempts (
    id         bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    frame_id   bigint NOT NULL REFERENCES frames ON DELETE CASCADE,
    run_id     uuid NOT NULL,
    fence      bigint NOT NULL,
    host       text NOT NULL,
    crew       text NOT NULL,
    outcome    text NOT NULL CHECK (outcome IN ('done', 'failed', 'lost', 'revoked')),
    cause      text NOT NULL DEFAULT '',
    log_tail   text NOT NULL DEFAULT '',
    started_at timestamptz NOT NULL,
    ended_at   timestamptz NOT NULL,
    seconds    double precision NOT NULL,
    measured   jsonb,
    UNIQUE (frame_id, fence)
);
CREATE INDEX attempts_of_run ON attempts (run_id, host, crew);

CREATE TABLE servers (
    run_id      uuid NOT NULL REFERENCES runs ON DELETE CASCADE,
    id          text NOT NULL,              -- as in the plan
    offer       text NOT NULL,
    host        text NOT NULL UNIQUE,
    state       text NOT NULL CHECK (state IN ('planned', 'starting', 'up', 'stopping', 'stopped', 'never')),
    from_at     timestamptz NOT NULL,
    to_at       timestamptz NOT NULL,
    paid_at     timestamptz NOT NULL,       -- until when the plan pays for it: it is gone by then
    started_at  timestamptz,
    stopped_at  timestamptz,
    trouble     text NOT NULL DEFAULT '',
    PRIMARY KEY (run_id, id)
);
CREATE INDEX servers_open ON servers (from_at) WHERE state NOT IN ('stopped', 'never');

-- What happened, for live updates. A reader goes by (xid, id), and only as far as
-- no transaction that might still add an event before is open: see service/events.
CREATE TABLE events (
    xid    bigint NOT NULL DEFAULT (pg_current_xact_id()::text::bigint),
    id     bigint GENERATED ALWAYS AS IDENTITY,
    run_id uuid,
    data   jsonb NOT NULL,
    at     timestamptz NOT NULL,
    PRIMARY KEY (xid, id)
);
CREATE INDEX events_of_run ON events (run_id, xid, id);

-- +goose Down
DROP TABLE events, servers, attempts, frames, bookings, trials, run_shots, runs, plans, shots, offers, hosts, tokens, settings;
