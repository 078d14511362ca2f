-- +goose Up
-- Where programs want to hear of what happens.
CREATE TABLE hook (
  id CHAR(16) CHARACTER SET ascii COLLATE ascii_bin PRIMARY KEY,
  application VARCHAR(64) CHARACTER SET ascii COLLATE ascii_bin NOT NULL,
  url VARCHAR(1024) NOT NULL,
  kinds VARCHAR(255) CHARACTER SET ascii NOT NULL,
  severity VARCHAR(16) CHARACTER SET ascii NOT NULL,
  author VARCHAR(64) NOT NULL,
  created DATETIME(3) NOT NULL,
  told DATETIME(3) NULL,
  fault TEXT NOT NULL
);
-- What is to be told, until it is or nobody has listened for too long.
CREATE TABLE notice (
  id CHAR(16) CHARACTER SET ascii COLLATE ascii_bin PRIMARY KEY,
  hook CHAR(16) CHARACTER SET ascii COLLATE ascii_bin NOT NULL,
  body MEDIUMTEXT NOT NULL,
  tries INT NOT NULL DEFAULT 0,
  next DATETIME(3) NOT NULL,
  KEY by_next (next),
  KEY by_hook (hook, id),
  FOREIGN KEY (hook) REFERENCES hook (id) ON DELETE CASCADE
);
-- +goose Down
DROP TABLE notice, hook;
