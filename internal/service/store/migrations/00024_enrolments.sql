-- +goose Up
-- Which enrolment of a host its orders are for; '' where its agent was enrolled by an earlier version.
ALTER TABLE host ADD COLUMN enrolment CHAR(16) CHARACTER SET ascii COLLATE ascii_bin NOT NULL DEFAULT '' AFTER renewed;
-- +goose Down
ALTER TABLE host DROP COLUMN enrolment;
