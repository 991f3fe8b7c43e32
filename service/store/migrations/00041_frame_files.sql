-- +goose Up
-- What frames have beside their pictures. Those of a lease that is over, by its fence, are nobody's.
CREATE TABLE frame_files (
    frame_id   bigint NOT NULL REFERENCES frames (id) ON DELETE CASCADE,
    name       text   NOT NULL,
    fence      bigint NOT NULL,
    kind       text   NOT NULL,
    ending     text   NOT NULL,
    sha256     text   NOT NULL,
    bytes      bigint NOT NULL,
    key        text   NOT NULL,
    PRIMARY KEY (frame_id, name)
);
CREATE INDEX frame_files_key ON frame_files (key);

-- +goose Down
DROP TABLE frame_files;
