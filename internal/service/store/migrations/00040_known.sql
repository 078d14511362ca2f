-- +goose Up
-- As of when agents that watch say that what they gave last is still so, and which snapshot said it.
CREATE TABLE watched (
  application VARCHAR(64) CHARACTER SET ascii COLLATE ascii_bin NOT NULL,
  host VARCHAR(64) CHARACTER SET ascii COLLATE ascii_bin NOT NULL,
  snapshot CHAR(16) CHARACTER SET ascii COLLATE ascii_bin NOT NULL,
  at DATETIME(3) NOT NULL,
  PRIMARY KEY (application, host)
);
-- A look that failed is one, too; one that somebody cancelled is none.
UPDATE snapshot SET looked = id WHERE state = 'failed' AND looked IS NULL AND message NOT LIKE 'cancelled by %';
-- +goose Down
UPDATE snapshot SET looked = NULL WHERE state = 'failed';
DROP TABLE watched;
