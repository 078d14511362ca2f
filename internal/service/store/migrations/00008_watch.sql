-- +goose Up
-- Whether a host's agent hears of changes as they happen; NULL where it never told.
ALTER TABLE host ADD COLUMN watching BOOLEAN NULL AFTER version, ADD COLUMN watch_notes TEXT NOT NULL DEFAULT '' AFTER watching;
-- A snapshot that was taken since something was heard of; nobody asked for it.
ALTER TABLE snapshot ADD COLUMN heard BOOLEAN NOT NULL DEFAULT FALSE AFTER whole;
-- Whether it goes into other file systems.
ALTER TABLE snapshot ADD COLUMN crossing BOOLEAN NOT NULL DEFAULT FALSE AFTER heard;
-- What processes did to paths, as far as the kernel told.
CREATE TABLE act (
  application VARCHAR(64) CHARACTER SET ascii COLLATE ascii_bin NOT NULL,
  host VARCHAR(64) CHARACTER SET ascii COLLATE ascii_bin NOT NULL,
  identity BINARY(16) NOT NULL,
  at DATETIME(3) NOT NULL,
  path MEDIUMBLOB NOT NULL,
  body TEXT NOT NULL,
  PRIMARY KEY (application, host, identity, at),
  KEY by_time (at)
);
-- What just happened, for pages that are open: any instance tells what another one did. A row is of
-- use for some seconds.
CREATE TABLE happening (
  id CHAR(16) CHARACTER SET ascii COLLATE ascii_bin PRIMARY KEY,
  kind VARCHAR(16) CHARACTER SET ascii NOT NULL,
  application VARCHAR(64) CHARACTER SET ascii COLLATE ascii_bin NOT NULL,
  host VARCHAR(64) CHARACTER SET ascii COLLATE ascii_bin NOT NULL,
  subject VARCHAR(64) CHARACTER SET ascii COLLATE ascii_bin NOT NULL
);
-- +goose Down
DROP TABLE happening, act;
ALTER TABLE snapshot DROP COLUMN heard, DROP COLUMN crossing;
ALTER TABLE host DROP COLUMN watching, DROP COLUMN watch_notes;
