-- +goose Up
-- Somebody whom the roster lets act alone approved it: nobody else looked at it.
ALTER TABLE plan ADD COLUMN alone BOOLEAN NOT NULL DEFAULT FALSE;
-- What somebody signed when they agreed to a request, as JSON; '' where they signed nothing.
ALTER TABLE request_agreed ADD COLUMN signed MEDIUMTEXT NOT NULL DEFAULT '';
-- +goose Down
ALTER TABLE request_agreed DROP COLUMN signed;
ALTER TABLE plan DROP COLUMN alone;
