-- +goose Up
-- Hosts of a later wave get their work when those of the earlier ones have ended well.
ALTER TABLE run_host ADD COLUMN wave INT NOT NULL DEFAULT 0;
ALTER TABLE run ADD COLUMN stop_at INT NOT NULL DEFAULT 100;
-- +goose Down
ALTER TABLE run DROP COLUMN stop_at;
ALTER TABLE run_host DROP COLUMN wave;
