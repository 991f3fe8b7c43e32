-- +goose Up
-- Files of times that were taken in, so that one that is sent twice is taken in once.
CREATE TABLE imports (
    id      uuid PRIMARY KEY,
    request bytea NOT NULL, -- fingerprint of the file
    rows    integer NOT NULL,
    at      timestamptz NOT NULL
);

-- +goose Down
DROP TABLE imports;
