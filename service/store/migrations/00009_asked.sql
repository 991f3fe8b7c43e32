-- +goose Up

-- When a source was first asked anything at its address; null: nobody has yet.
ALTER TABLE sources ADD asked timestamptz;
-- Up to which change of the shots a host's agent has looked for their input files.
ALTER TABLE hosts ADD looked_to timestamptz;
-- Of a frame that a run took over done from another: that run, whose picture it is.
ALTER TABLE frames ADD from_run uuid;
-- Crews that a sweep cannot time within its budget, and why.
ALTER TABLE sweeps ADD beyond jsonb NOT NULL DEFAULT '[]';

-- +goose Down
ALTER TABLE frames DROP from_run;
ALTER TABLE sweeps DROP beyond;
ALTER TABLE hosts DROP looked_to;
ALTER TABLE sources DROP asked;
