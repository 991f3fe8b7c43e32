-- +goose Up
ALTER TABLE hosts ADD COLUMN trouble text NOT NULL DEFAULT ''; -- for which its agent takes nothing, as it says; '' for none

-- +goose Down
ALTER TABLE hosts DROP COLUMN trouble;
