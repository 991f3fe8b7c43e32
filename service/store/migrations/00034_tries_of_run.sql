-- +goose Up

-- Tries of a run after one, and of its last ones: without it they are looked for among those of all runs.
CREATE INDEX tries_of_run ON tries (run_id, id);
-- Tries since a time: they are written as they end, so a range of pages is a range of times.
CREATE INDEX tries_ended ON tries USING brin (ended_at) WITH (autosummarize = on);
-- What a shot was in which runs.
CREATE INDEX run_shots_of_shot ON run_shots (shot);

-- +goose Down
DROP INDEX run_shots_of_shot;
DROP INDEX tries_ended;
DROP INDEX tries_of_run;
