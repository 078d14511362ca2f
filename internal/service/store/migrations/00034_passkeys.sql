-- +goose Up
-- Passkeys and security keys of people, each sealed for its person; and challenges that were answered, each of which counts once.
CREATE TABLE passkey (
  id CHAR(16) CHARACTER SET ascii COLLATE ascii_bin PRIMARY KEY,
  person VARCHAR(64) CHARACTER SET ascii COLLATE ascii_bin NOT NULL,
  hash BINARY(32) NOT NULL,
  name VARCHAR(64) NOT NULL,
  sealed MEDIUMBLOB NOT NULL,
  created DATETIME(3) NOT NULL,
  used DATETIME(3) NULL,
  UNIQUE KEY by_hash (hash),
  KEY by_person (person, id),
  FOREIGN KEY (person) REFERENCES person (name) ON DELETE CASCADE
);
CREATE TABLE answered_challenge (
  hash BINARY(32) PRIMARY KEY,
  at DATETIME(3) NOT NULL,
  KEY by_at (at)
);
-- +goose Down
DROP TABLE answered_challenge;
DROP TABLE passkey;
