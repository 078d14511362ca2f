-- +goose Up
-- Until when a one-time password is good. Those from before are good for a day more.
ALTER TABLE person ADD COLUMN password_until DATETIME(3) NULL AFTER must_change;
UPDATE person SET password_until = UTC_TIMESTAMP(3) + INTERVAL 1 DAY WHERE must_change;
-- +goose Down
ALTER TABLE person DROP COLUMN password_until;
