-- +goose Up
-- Places that are not known as of now, since when they are in which state, and what of it hooks were told.
CREATE TABLE unknown (
  application VARCHAR(64) CHARACTER SET ascii COLLATE ascii_bin NOT NULL,
  host VARCHAR(64) CHARACTER SET ascii COLLATE ascii_bin NOT NULL,
  state VARCHAR(16) CHARACTER SET ascii COLLATE ascii_bin NOT NULL,
  since DATETIME(3) NOT NULL,
  told VARCHAR(16) CHARACTER SET ascii COLLATE ascii_bin NOT NULL DEFAULT '',
  PRIMARY KEY (application, host)
);
-- +goose Down
DROP TABLE unknown;
