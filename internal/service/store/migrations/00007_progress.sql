-- +goose Up
-- How many paths a snapshot that is being taken has seen.
ALTER TABLE snapshot ADD COLUMN seen BIGINT NOT NULL DEFAULT 0 AFTER gaps;
-- +goose Down
ALTER TABLE snapshot DROP COLUMN seen;
