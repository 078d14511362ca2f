-- +goose Up
-- Calls that others have to agree to before they are carried out. The hash is of the call, with all that it says.
CREATE TABLE request (
  id CHAR(16) CHARACTER SET ascii COLLATE ascii_bin NOT NULL PRIMARY KEY,
  hash BINARY(32) NOT NULL,
  asked_by VARCHAR(64) NOT NULL,
  operation VARCHAR(64) NOT NULL,
  summary VARCHAR(400) NOT NULL,
  application VARCHAR(64) NOT NULL,
  role VARCHAR(16) NOT NULL,
  detail MEDIUMTEXT NOT NULL,
  needed INT NOT NULL,
  touched INT NOT NULL DEFAULT 0,
  state VARCHAR(16) NOT NULL,
  decided_by VARCHAR(64) NOT NULL DEFAULT '',
  created DATETIME(3) NOT NULL,
  expires DATETIME(3) NOT NULL,
  KEY by_call (hash, asked_by),
  KEY by_state (state, expires)
);
CREATE TABLE request_agreed (
  request CHAR(16) CHARACTER SET ascii COLLATE ascii_bin NOT NULL,
  who VARCHAR(64) NOT NULL,
  at DATETIME(3) NOT NULL,
  PRIMARY KEY (request, who),
  FOREIGN KEY (request) REFERENCES request (id) ON DELETE CASCADE
);
-- How many reviewers have to agree before an edition of an application's baseline is published.
ALTER TABLE review_rule ADD COLUMN editions INT NOT NULL DEFAULT 0;
-- +goose Down
ALTER TABLE review_rule DROP COLUMN editions;
DROP TABLE request_agreed;
DROP TABLE request;
