-- +goose Up
-- One start of a renderer may render several frames. Those under lease that it has not begun are
-- known by begun; start is the number of the first one, and 0 of a frame that has a start for itself.
ALTER TABLE frames ADD COLUMN begun boolean NOT NULL DEFAULT true, ADD COLUMN start bigint NOT NULL DEFAULT 0;
CREATE INDEX frames_unbegun ON frames (host, start, leased_at) WHERE state = 'rendering' AND NOT begun;
CREATE INDEX frames_started ON frames (host) WHERE state = 'rendering' AND begun AND start <> 0;
-- What opening the scene takes on a crew, once a start; 0 is not known, or a start of one frame.
ALTER TABLE bookings ADD COLUMN opening_s double precision NOT NULL DEFAULT 0;

-- +goose Down
UPDATE frames SET state = 'waiting', lease_until = NULL, boot = NULL WHERE state = 'rendering' AND NOT begun;
ALTER TABLE bookings DROP COLUMN opening_s;
DROP INDEX frames_started;
DROP INDEX frames_unbegun;
ALTER TABLE frames DROP COLUMN start, DROP COLUMN begun;
