-- +goose Up
-- Lines of history are tied together: each has a number, and the hash of itself and of the one before. Older ones have neither.
ALTER TABLE audit ADD COLUMN seq BIGINT NULL, ADD COLUMN hash BINARY(32) NULL, ADD UNIQUE KEY by_seq (seq);
CREATE TABLE chain (
  name VARCHAR(16) CHARACTER SET ascii COLLATE ascii_bin PRIMARY KEY,
  seq BIGINT NOT NULL,
  hash BINARY(32) NOT NULL,
  signature VARBINARY(128) NOT NULL,
  outside BIGINT NOT NULL
);
-- How many lines there were before, so that none is put among them afterwards.
INSERT INTO chain (name, seq, hash, signature, outside) SELECT 'history', 0, REPEAT(CHAR(0), 32), '', COUNT(*) FROM audit;
-- What programs sign in with, for somebody who may do at least as much.
CREATE TABLE token (
  id CHAR(16) CHARACTER SET ascii COLLATE ascii_bin PRIMARY KEY,
  token_hash BINARY(32) NOT NULL,
  person VARCHAR(64) CHARACTER SET ascii COLLATE ascii_bin NOT NULL,
  name VARCHAR(64) NOT NULL,
  roles VARCHAR(255) NOT NULL,
  created DATETIME(3) NOT NULL,
  expires DATETIME(3) NOT NULL,
  used DATETIME(3) NULL,
  UNIQUE KEY by_hash (token_hash),
  KEY by_person (person, id),
  FOREIGN KEY (person) REFERENCES person (name) ON DELETE CASCADE
);
-- +goose Down
DROP TABLE token, chain;
ALTER TABLE audit DROP KEY by_seq, DROP COLUMN seq, DROP COLUMN hash;
