-- +goose Up
-- How a machine stands that somebody works at; null: nobody does.
ALTER TABLE hosts ADD desk jsonb;
-- When it was its owner's, by the service's clock.
CREATE TABLE desk_uses (
    host     text NOT NULL REFERENCES hosts (name) ON DELETE CASCADE,
    began_at timestamptz NOT NULL,
    ended_at timestamptz,                    -- null: it still is
    PRIMARY KEY (host, began_at)
);

-- +goose Down
DROP TABLE desk_uses;
ALTER TABLE hosts DROP COLUMN desk;
