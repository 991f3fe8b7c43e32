-- +goose Up
-- A run that was deleted is none any more at once; its frames and tries are deleted behind that, in steps.
ALTER TABLE runs DROP CONSTRAINT runs_kind_check, ADD CONSTRAINT runs_kind_check CHECK (kind IN ('run', 'trial', 'deleted'));

-- +goose Down
DELETE FROM runs WHERE kind = 'deleted';
ALTER TABLE runs DROP CONSTRAINT runs_kind_check, ADD CONSTRAINT runs_kind_check CHECK (kind IN ('run', 'trial'));
