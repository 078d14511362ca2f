-- +goose Up
-- Which look at a place is the newest: not the one that was asked for last, since another one may come in between.
ALTER TABLE snapshot ADD COLUMN looked CHAR(16) CHARACTER SET ascii COLLATE ascii_bin NULL;
UPDATE snapshot SET looked = id WHERE forest IS NOT NULL;
ALTER TABLE snapshot DROP KEY by_place, ADD KEY by_place (application, host, state, looked), ADD KEY by_host_looked (host, looked), ADD UNIQUE KEY by_looked (looked);
-- +goose Down
ALTER TABLE snapshot DROP KEY by_place, ADD KEY by_place (application, host, state, id), DROP KEY by_host_looked, DROP KEY by_looked, DROP COLUMN looked;
