-- +goose Up
ALTER TABLE farm_jobs ADD COLUMN seen_at timestamptz, -- when its farm was asked about it last, by the service's clock
	ADD COLUMN begun jsonb NOT NULL DEFAULT '{}';      -- since when each frame is in work there, as far as was seen

-- +goose Down
ALTER TABLE farm_jobs DROP COLUMN seen_at, DROP COLUMN begun;
