-- +goose Up
-- Up to which line of the history somebody was told what has changed in how they sign in.
ALTER TABLE person ADD COLUMN told CHAR(16) CHARACTER SET ascii COLLATE ascii_bin NOT NULL DEFAULT '';
-- +goose Down
ALTER TABLE person DROP COLUMN told;
