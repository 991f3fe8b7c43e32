-- +goose Up
ALTER TABLE frames ADD COLUMN forgiven bigint NOT NULL DEFAULT 0; -- the last try when somebody let the frame be tried again

-- +goose Down
ALTER TABLE frames DROP COLUMN forgiven;
