-- +goose Up
ALTER TABLE plans
    ADD COLUMN part_of uuid REFERENCES plans ON DELETE CASCADE, -- a point of this plan's trade-off curve
    ADD COLUMN curve   jsonb,                                   -- its own trade-off curve, once drawn
    ADD COLUMN run_id  uuid REFERENCES runs ON DELETE CASCADE;  -- the run whose rest it plans

-- Plans that a run changed over to, after the one that it began with.
CREATE TABLE run_plans (
    id      bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    run_id  uuid NOT NULL REFERENCES runs ON DELETE CASCADE,
    plan_id uuid NOT NULL REFERENCES plans,
    at      timestamptz NOT NULL
);
CREATE INDEX run_plans_of ON run_plans (run_id, id);

-- +goose Down
DROP TABLE run_plans;
ALTER TABLE plans DROP COLUMN run_id, DROP COLUMN curve, DROP COLUMN part_of;
