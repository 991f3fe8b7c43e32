-- +goose Up
ALTER TABLE runs ADD COLUMN archived boolean NOT NULL DEFAULT false; -- not in lists unless it is asked for
-- What was paid stays, though its run is deleted.
ALTER TABLE charges DROP CONSTRAINT charges_run_id_fkey, ADD CONSTRAINT charges_run_id_fkey FOREIGN KEY (run_id) REFERENCES runs ON DELETE SET NULL;

-- +goose Down
ALTER TABLE charges DROP CONSTRAINT charges_run_id_fkey, ADD CONSTRAINT charges_run_id_fkey FOREIGN KEY (run_id) REFERENCES runs ON DELETE CASCADE;
ALTER TABLE runs DROP COLUMN archived;
