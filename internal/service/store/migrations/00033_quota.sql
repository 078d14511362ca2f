-- +goose Up
-- How many bytes of nodes a host's agent has sent on a day (UTC).
ALTER TABLE host ADD COLUMN sent_on DATE NULL, ADD COLUMN sent BIGINT NOT NULL DEFAULT 0;
-- +goose Down
ALTER TABLE host DROP COLUMN sent_on, DROP COLUMN sent;
