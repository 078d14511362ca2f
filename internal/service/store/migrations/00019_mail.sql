-- +goose Up
-- Notices may be gathered for so many minutes, and be of findings with one effect alone.
ALTER TABLE hook ADD COLUMN every_minutes INT NOT NULL DEFAULT 0, ADD COLUMN effect VARCHAR(8) CHARACTER SET ascii NOT NULL DEFAULT '';
-- +goose Down
ALTER TABLE hook DROP COLUMN effect, DROP COLUMN every_minutes;
