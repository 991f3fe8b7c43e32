-- +goose Up

-- Extra seats of a licence pool, hired by a run from a time until it ends. The price is
-- of one seat for one day.
CREATE TABLE hired_seats (
    run_id  uuid NOT NULL REFERENCES runs ON DELETE CASCADE,
    pool    text NOT NULL,
    seats   integer NOT NULL,
    price   numeric NOT NULL,
    days    integer NOT NULL,             -- for which they were planned
    from_at timestamptz NOT NULL,
    PRIMARY KEY (run_id, pool, from_at)
);
INSERT INTO hired_seats (run_id, pool, seats, price, days, from_at)
    SELECT r.id, e.key, e.value::int, coalesce(l.extra_seat_price, 0), 1, r.created_at
    FROM runs r, jsonb_each_text(r.extra_seats) e LEFT JOIN licences l ON l.pool = e.key WHERE e.value::int > 0;
ALTER TABLE runs DROP COLUMN extra_seats;

-- By which booking a try was made: of two jobs of one shot at one farm each has its own.
ALTER TABLE attempts ADD COLUMN booking_id bigint;

-- When the farm had all of a job: its queue is counted from then.
-- Jobs of one plan are one order: the farm's least charge is for all of it.
ALTER TABLE farm_jobs ADD COLUMN handed_at timestamptz, ADD COLUMN order_id uuid;
UPDATE farm_jobs SET order_id = run_id;
ALTER TABLE farm_jobs ALTER COLUMN order_id SET NOT NULL;

-- +goose Down
ALTER TABLE farm_jobs DROP COLUMN order_id, DROP COLUMN handed_at;
ALTER TABLE attempts DROP COLUMN booking_id;
ALTER TABLE runs ADD COLUMN extra_seats jsonb NOT NULL DEFAULT '{}';
UPDATE runs r SET extra_seats = (SELECT coalesce(jsonb_object_agg(pool, seats), '{}') FROM (SELECT pool, sum(seats) AS seats FROM hired_seats h WHERE h.run_id = r.id GROUP BY pool) x);
DROP TABLE hired_seats;
