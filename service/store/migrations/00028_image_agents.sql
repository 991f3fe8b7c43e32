-- +goose Up
ALTER TABLE images ADD COLUMN agent_version text NOT NULL DEFAULT ''; -- of the agent in it; '' of one that does not say it

-- +goose Down
ALTER TABLE images DROP COLUMN agent_version;
