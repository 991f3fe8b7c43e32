-- +goose Up
-- Hosts look for the input files of shots that somebody asked about lately, or that an open run renders.
ALTER TABLE shots ADD COLUMN asked_at timestamptz NOT NULL DEFAULT 'epoch', -- when somebody did last, to the hour
    ADD COLUMN listed_at timestamptz NOT NULL DEFAULT 'epoch'; -- since when it is on the list
UPDATE shots SET asked_at = updated_at, listed_at = updated_at;

-- +goose Down
ALTER TABLE shots DROP COLUMN listed_at, DROP COLUMN asked_at;
