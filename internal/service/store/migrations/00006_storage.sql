-- +goose Up
-- When somebody last relied on a node, to the hour; and whether it is about to be taken away, so that
-- nobody may rely on it any more.
ALTER TABLE node ADD COLUMN used DATETIME NOT NULL DEFAULT '2026-01-01 00:00:00', ADD COLUMN doomed BOOLEAN NOT NULL DEFAULT FALSE;
ALTER TABLE directory ADD COLUMN used DATETIME NOT NULL DEFAULT '2026-01-01 00:00:00';
-- A report whose findings were let go: its figures stay.
ALTER TABLE report ADD COLUMN trimmed BOOLEAN NOT NULL DEFAULT FALSE AFTER ready;
-- What one instance does for all.
CREATE TABLE duty (
  name VARCHAR(32) CHARACTER SET ascii COLLATE ascii_bin PRIMARY KEY,
  holder CHAR(16) CHARACTER SET ascii COLLATE ascii_bin NOT NULL,
  until DATETIME(3) NOT NULL
);
-- +goose Down
DROP TABLE duty;
ALTER TABLE report DROP COLUMN trimmed;
ALTER TABLE directory DROP COLUMN used;
ALTER TABLE node DROP COLUMN used, DROP COLUMN doomed;
