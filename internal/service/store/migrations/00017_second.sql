-- +goose Up
-- A second factor's secret is sealed by the service's own key; the next one is not confirmed yet.
ALTER TABLE person ADD COLUMN second VARBINARY(255) NULL, ADD COLUMN second_next VARBINARY(255) NULL, ADD COLUMN second_used BIGINT NOT NULL DEFAULT 0;
CREATE TABLE spare_code (
  hash BINARY(32) PRIMARY KEY,
  person VARCHAR(64) CHARACTER SET ascii COLLATE ascii_bin NOT NULL,
  KEY by_person (person),
  FOREIGN KEY (person) REFERENCES person (name) ON DELETE CASCADE
);
-- Sessions can be listed and ended. The console's token is another one now and then; the one before counts for a moment.
ALTER TABLE session ADD COLUMN id CHAR(16) CHARACTER SET ascii COLLATE ascii_bin NOT NULL DEFAULT '', ADD COLUMN what VARCHAR(160) NOT NULL DEFAULT '',
  ADD COLUMN turned DATETIME(3) NULL, ADD COLUMN before_hash BINARY(32) NULL, ADD KEY by_before (before_hash);
-- +goose Down
ALTER TABLE session DROP KEY by_before, DROP COLUMN before_hash, DROP COLUMN turned, DROP COLUMN what, DROP COLUMN id;
DROP TABLE spare_code;
ALTER TABLE person DROP COLUMN second_used, DROP COLUMN second_next, DROP COLUMN second;
