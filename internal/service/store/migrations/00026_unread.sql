-- +goose Up
-- A finding whose path could not be read this time: it is told as it was found before.
ALTER TABLE finding ADD COLUMN unread BOOLEAN NOT NULL DEFAULT FALSE;
-- +goose Down
ALTER TABLE finding DROP COLUMN unread;
