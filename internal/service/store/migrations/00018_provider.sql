-- +goose Up
-- Who signs in by way of another service, and as whom there: nobody's until the first time.
ALTER TABLE person ADD COLUMN provider BOOLEAN NOT NULL DEFAULT FALSE, ADD COLUMN subject VARCHAR(255) CHARACTER SET utf8mb4 COLLATE utf8mb4_bin NULL, ADD UNIQUE KEY by_subject (subject);
-- +goose Down
ALTER TABLE person DROP KEY by_subject, DROP COLUMN subject, DROP COLUMN provider;
