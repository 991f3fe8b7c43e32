-- +goose Up

-- Where hosts come from that are not one's own.
CREATE TABLE sources (
    name   text PRIMARY KEY,
    spec   jsonb NOT NULL,
    secret bytea,                        -- for its interface, sealed
    swept  timestamptz,                  -- when its list of servers was last compared with ours, by the wall clock
    fault  text NOT NULL DEFAULT ''      -- why it could not be reached the last time
);

CREATE TABLE exchange_rates (
    day       date NOT NULL,
    from_code text NOT NULL,
    to_code   text NOT NULL,
    rate      numeric NOT NULL,
    PRIMARY KEY (day, from_code, to_code)
);

-- Tiers of render farms.
CREATE TABLE farms (
    name   text PRIMARY KEY,
    source text NOT NULL,
    spec   jsonb NOT NULL
);

-- Images that a source keeps of servers once set up.
CREATE TABLE images (
    source text NOT NULL,
    offer  text NOT NULL,
    image  text NOT NULL,
    kept_at timestamptz NOT NULL,
    PRIMARY KEY (source, offer)
);

ALTER TABLE licences ADD COLUMN extra_seats integer NOT NULL DEFAULT 0, ADD COLUMN extra_seat_price numeric NOT NULL DEFAULT 0;

ALTER TABLE runs ADD COLUMN cap numeric, ADD COLUMN accept_proofs boolean NOT NULL DEFAULT false, ADD COLUMN alerted integer NOT NULL DEFAULT 0,
    ADD COLUMN extra_seats jsonb NOT NULL DEFAULT '{}'; -- hired, by pool

ALTER TABLE servers DROP CONSTRAINT servers_state_check;
ALTER TABLE servers
    ADD CONSTRAINT servers_state_check CHECK (state IN ('planned', 'asked', 'starting', 'up', 'stopping', 'ending', 'stopped', 'never')),
    ADD COLUMN image    text NOT NULL DEFAULT '',    -- that it is made from
    ADD COLUMN address  text NOT NULL DEFAULT '',
    ADD COLUMN committed numeric NOT NULL DEFAULT 0, -- what it is expected to cost, once it was asked for
    ADD COLUMN up_at    timestamptz,
    ADD COLUMN tried    integer NOT NULL DEFAULT 0,  -- how many servers it replaces, one after another
    ADD COLUMN missed   integer NOT NULL DEFAULT 0,  -- how often its source could not be asked about it
    ADD COLUMN looked_at timestamptz;                -- when its source was last asked about it, by the wall clock

ALTER TABLE bookings ADD COLUMN nodes integer NOT NULL DEFAULT 1, -- of a farm, that work side by side
    ADD COLUMN planned integer NOT NULL DEFAULT 0; -- frames as they were planned, whatever was changed since
UPDATE bookings SET planned = frames;

-- A job at a farm: frames of one booking.
CREATE TABLE farm_jobs (
    id         uuid PRIMARY KEY,
    run_id     uuid NOT NULL REFERENCES runs ON DELETE CASCADE,
    booking_id bigint NOT NULL,
    shot       text NOT NULL,
    farm       text NOT NULL,
    source     text NOT NULL,
    crew       text NOT NULL,
    frames     integer NOT NULL,
    state      text NOT NULL CHECK (state IN ('planned', 'sending', 'analysing', 'queued', 'proofing', 'held', 'rendering', 'rejected', 'refused', 'closing', 'ended', 'never')),
    from_at    timestamptz NOT NULL,
    look_at    timestamptz,              -- when the farm is asked next, by the wall clock
    proofs     integer[] NOT NULL DEFAULT '{}',
    accepted   boolean,                  -- the proof frames, by a person or by check
    findings   jsonb NOT NULL DEFAULT '[]',
    queue      integer NOT NULL DEFAULT 0,
    trouble    text NOT NULL DEFAULT '',
    sent_at    timestamptz,
    started_at timestamptz,              -- its first frame
    ended_at   timestamptz,
    committed  numeric NOT NULL DEFAULT 0, -- what it is expected to cost
    node_s     double precision NOT NULL DEFAULT 0
);
CREATE INDEX farm_jobs_open ON farm_jobs (from_at) WHERE state NOT IN ('ended', 'never');
CREATE INDEX farm_jobs_of_run ON farm_jobs (run_id);

-- What a source's meter said when a server or a farm's job ended.
CREATE TABLE charges (
    id        bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    run_id    uuid REFERENCES runs ON DELETE CASCADE, -- none: an orphan's
    source    text NOT NULL,
    place     text NOT NULL,             -- the server, or the farm's job
    at        timestamptz NOT NULL,
    metered_s double precision NOT NULL,
    amount    numeric NOT NULL,          -- by the source's prices
    unit      text NOT NULL,             -- currency of the source's prices
    factor    text NOT NULL,             -- what one of it comes to, exactly, as a fraction
    cost      numeric NOT NULL,          -- in the service's currency, discount and tax in it
    UNIQUE (source, place)
);
CREATE INDEX charges_of_run ON charges (run_id);

-- Seats of licence pools that hosts hold now.
CREATE TABLE seats (
    pool  text NOT NULL,
    host  text NOT NULL,
    run_id uuid NOT NULL REFERENCES runs ON DELETE CASCADE,
    since timestamptz NOT NULL,
    until timestamptz NOT NULL,          -- if not renewed, by the wall clock
    PRIMARY KEY (pool, host)
);

-- Packages: the files of a shot by content.
CREATE TABLE chunks (
    sum  text PRIMARY KEY,
    size integer NOT NULL
);
CREATE TABLE packages (
    shot    text PRIMARY KEY,
    files   jsonb NOT NULL,
    sum     text NOT NULL,               -- over the files
    size    bigint NOT NULL,
    made_at timestamptz NOT NULL
);
-- What was sent to each source, and how long it took.
CREATE TABLE transfers (
    id      bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    source  text NOT NULL,
    shot    text NOT NULL,
    bytes   bigint NOT NULL,
    seconds double precision NOT NULL,
    at      timestamptz NOT NULL
);
CREATE INDEX transfers_to ON transfers (source, at DESC);
ALTER TABLE run_shots ADD COLUMN package jsonb;

-- +goose Down
ALTER TABLE run_shots DROP COLUMN package;
DROP TABLE transfers, packages, chunks, seats, charges, farm_jobs, images, farms, exchange_rates, sources;
ALTER TABLE servers DROP CONSTRAINT servers_state_check;
ALTER TABLE servers DROP COLUMN looked_at, DROP COLUMN missed, DROP COLUMN tried, DROP COLUMN up_at, DROP COLUMN committed, DROP COLUMN address, DROP COLUMN image,
    ADD CONSTRAINT servers_state_check CHECK (state IN ('planned', 'starting', 'up', 'stopping', 'stopped', 'never'));
ALTER TABLE bookings DROP COLUMN planned, DROP COLUMN nodes;
ALTER TABLE runs DROP COLUMN extra_seats, DROP COLUMN alerted, DROP COLUMN accept_proofs, DROP COLUMN cap;
ALTER TABLE licences DROP COLUMN extra_seat_price, DROP COLUMN extra_seats;
