-- +goose Up
-- What a waiver accepts, as findings are known by it; found is what people read. It is empty for waivers from before:
-- the next comparison that they accept something in tells what their words stand for.
ALTER TABLE waiver ADD COLUMN found_value MEDIUMTEXT NOT NULL DEFAULT '';
-- +goose Down
ALTER TABLE waiver DROP COLUMN found_value;
