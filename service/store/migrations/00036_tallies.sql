-- +goose Up

-- What was done in a large run up to a try, summed up: service/tally adds what came since.
CREATE TABLE tallies (
	run_id uuid PRIMARY KEY REFERENCES runs ON DELETE CASCADE,
	mark bigint NOT NULL, -- the last try that is in it
	shots json NOT NULL,
	sums json NOT NULL
);

-- +goose Down
DROP TABLE tallies;
