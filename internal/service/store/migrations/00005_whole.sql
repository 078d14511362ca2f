-- +goose Up
-- Whether a snapshot reads everything, whatever the agent knows from before.
ALTER TABLE snapshot ADD COLUMN whole BOOLEAN NOT NULL DEFAULT FALSE AFTER roots;
-- +goose Down
ALTER TABLE snapshot DROP COLUMN whole;
