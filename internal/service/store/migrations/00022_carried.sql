-- +goose Up
-- Hosts that nothing leads to: what they are told, and tell, is carried.
ALTER TABLE host ADD COLUMN carried BOOLEAN NOT NULL DEFAULT FALSE AFTER renewed;
-- +goose Down
ALTER TABLE host DROP COLUMN carried;
