-- +goose Up
ALTER TABLE servers ADD COLUMN last_at timestamptz; -- of one that stops: when it is ended whatever it still renders

-- +goose Down
ALTER TABLE servers DROP COLUMN last_at;
