-- +goose Up
ALTER TABLE frames ADD COLUMN picture text NOT NULL DEFAULT ''; -- key of its file; '' of before: made of run, shot, number and fence

-- +goose Down
ALTER TABLE frames DROP COLUMN picture;
