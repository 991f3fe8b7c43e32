-- +goose Up
-- A large run's frames are laid before it is begun, in steps: until then it is none.
ALTER TABLE runs DROP CONSTRAINT runs_kind_check, ADD CONSTRAINT runs_kind_check CHECK (kind IN ('run', 'trial', 'laid', 'deleted'));

-- +goose Down
DELETE FROM runs WHERE kind = 'laid';
ALTER TABLE runs DROP CONSTRAINT runs_kind_check, ADD CONSTRAINT runs_kind_check CHECK (kind IN ('run', 'trial', 'deleted'));
