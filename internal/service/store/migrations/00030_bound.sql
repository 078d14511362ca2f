-- +goose Up
-- What the service has to do once to what an earlier version wrote, since it takes the service's keys.
CREATE TABLE upkeep (name VARCHAR(64) CHARACTER SET ascii COLLATE ascii_bin PRIMARY KEY);
INSERT INTO upkeep (name) SELECT 'bind second factors' FROM person WHERE second IS NOT NULL OR second_next IS NOT NULL LIMIT 1;
-- +goose Down
DROP TABLE upkeep;
