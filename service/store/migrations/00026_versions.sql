-- +goose Up
ALTER TABLE hosts ADD COLUMN agent_version text NOT NULL DEFAULT ''; -- '' of an agent that does not say it

-- +goose Down
ALTER TABLE hosts DROP COLUMN agent_version;
