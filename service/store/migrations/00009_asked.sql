-- +goose Up

-- When a source was first asked anything at its address; null: nobody has yet.
ALTER TABLE sources ADD asked timestamptz;
-- Up to which change of the shots a host's agent has looked for their input files.
ALTER TABLE hosts ADD looked_to timestamptz;
-- Crews that a sweep cannot time within its budget, and why.
ALTER TABLE sweeps ADD beyond jsonb NOT NULL DEFAULT '[]';

-- +goose Down
ALTER TABLE sweeps DROP beyond;
ALTER TABLE hosts DROP looked_to;
ALTER TABLE sources DROP asked;
