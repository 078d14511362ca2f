-- +goose Up
-- The token that a program did something with, which stood behind the detail before.
ALTER TABLE audit ADD COLUMN token VARCHAR(80) NOT NULL DEFAULT '' AFTER who;
-- +goose Down
ALTER TABLE audit DROP COLUMN token;
