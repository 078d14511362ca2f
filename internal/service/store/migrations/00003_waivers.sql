-- +goose Up
-- An accepted finding, with the reason and the end of its being accepted. Nothing of it is ever
-- changed but who took it back, and when.
CREATE TABLE waiver (
  id CHAR(16) CHARACTER SET ascii COLLATE ascii_bin PRIMARY KEY,
  application VARCHAR(64) CHARACTER SET ascii COLLATE ascii_bin NOT NULL,
  host VARCHAR(64) CHARACTER SET ascii COLLATE ascii_bin NOT NULL,
  pattern TEXT NOT NULL,
  rule_name VARCHAR(64) CHARACTER SET ascii COLLATE ascii_bin NOT NULL,
  kind VARCHAR(32) CHARACTER SET ascii NOT NULL,
  aspect VARCHAR(16) CHARACTER SET ascii NOT NULL,
  found TEXT NOT NULL,
  reason TEXT NOT NULL,
  author VARCHAR(64) NOT NULL,
  created DATETIME(3) NOT NULL,
  ends DATETIME(3) NOT NULL,
  withdrawn_by VARCHAR(64) NOT NULL DEFAULT '',
  withdrawn DATETIME(3) NULL,
  KEY by_application (application, ends)
);
-- +goose Down
DROP TABLE waiver;
