-- +goose Up

-- What was worked out of a run that is over, as it was when its last meter was closed: service/settled. The seal says of what.
CREATE TABLE settled (
	run_id uuid NOT NULL REFERENCES runs ON DELETE CASCADE,
	part text NOT NULL,
	seal text NOT NULL,
	what json NOT NULL,
	PRIMARY KEY (run_id, part)
);

-- +goose Down
DROP TABLE settled;
