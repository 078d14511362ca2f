-- +goose Up
-- Editions of the roster. The hash is of the document, which people sign. One edition of a number counts, and its
-- number stands in counting; the others are proposals.
CREATE TABLE roster_edition (
  digest BINARY(32) NOT NULL PRIMARY KEY,
  edition BIGINT NOT NULL,
  counting BIGINT NULL,
  document MEDIUMBLOB NOT NULL,
  proposed_by VARCHAR(64) NOT NULL,
  proposed DATETIME(3) NOT NULL,
  counts DATETIME(3) NULL,
  UNIQUE KEY (counting),
  KEY (edition, proposed)
);
-- What people have signed of an edition, so that it counts: each key once.
CREATE TABLE roster_signed (
  digest BINARY(32) NOT NULL,
  key_hash BINARY(32) NOT NULL,
  who VARCHAR(64) NOT NULL,
  at DATETIME(3) NOT NULL,
  signed MEDIUMTEXT NOT NULL,
  PRIMARY KEY (digest, key_hash),
  FOREIGN KEY (digest) REFERENCES roster_edition (digest) ON DELETE CASCADE
);
-- What people have signed of a plan: that they submitted or approved it.
CREATE TABLE plan_signed (
  plan CHAR(16) CHARACTER SET ascii COLLATE ascii_bin NOT NULL,
  says VARCHAR(16) NOT NULL,
  who VARCHAR(64) NOT NULL,
  at DATETIME(3) NOT NULL,
  signed MEDIUMTEXT NOT NULL,
  PRIMARY KEY (plan, says, who),
  FOREIGN KEY (plan) REFERENCES plan (id) ON DELETE CASCADE
);
-- Public halves of SSH keys that people want to sign by. What counts of them, a roster says.
CREATE TABLE signing_key (
  id CHAR(16) CHARACTER SET ascii COLLATE ascii_bin NOT NULL PRIMARY KEY,
  person VARCHAR(64) CHARACTER SET ascii COLLATE ascii_bin NOT NULL,
  name VARCHAR(64) NOT NULL,
  hash BINARY(32) NOT NULL,
  text TEXT NOT NULL,
  created DATETIME(3) NOT NULL,
  used DATETIME(3) NULL,
  UNIQUE KEY (hash),
  KEY (person, id),
  FOREIGN KEY (person) REFERENCES person (name) ON DELETE CASCADE
);
-- The edition that a host acts by, as its agent says; 0: by none.
ALTER TABLE host ADD COLUMN roster_edition BIGINT NOT NULL DEFAULT 0, ADD COLUMN roster_digest BINARY(32) NULL,
  ADD KEY (roster_edition);
-- The order that a host was given for a run, and its signature: evidence of what it was to do.
ALTER TABLE run_host ADD COLUMN given_order BLOB NULL, ADD COLUMN given_signature VARBINARY(64) NULL;
-- +goose Down
ALTER TABLE run_host DROP COLUMN given_order, DROP COLUMN given_signature;
ALTER TABLE host DROP COLUMN roster_edition, DROP COLUMN roster_digest;
DROP TABLE signing_key;
DROP TABLE plan_signed;
DROP TABLE roster_signed;
DROP TABLE roster_edition;
