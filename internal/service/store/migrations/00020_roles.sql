-- +goose Up
-- Roles may be for one application each, so that a person has more of them.
ALTER TABLE person MODIFY roles VARCHAR(8192) CHARACTER SET ascii COLLATE ascii_bin NOT NULL;
ALTER TABLE token MODIFY roles VARCHAR(8192) CHARACTER SET ascii COLLATE ascii_bin NOT NULL;
-- +goose Down
ALTER TABLE token MODIFY roles VARCHAR(255) NOT NULL;
ALTER TABLE person MODIFY roles VARCHAR(255) NOT NULL;
