-- +goose Up

-- Which of several runs comes first on a host: 1 urgent, 0 normal, -1 low.
ALTER TABLE runs ADD priority smallint NOT NULL DEFAULT 0 CHECK (priority BETWEEN -1 AND 1);

-- +goose Down
ALTER TABLE runs DROP priority;
