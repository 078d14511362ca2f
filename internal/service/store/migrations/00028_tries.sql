-- +goose Up
-- Wrong tries at somebody's password or code, by where they came from: every instance counts them, and a restart forgets none.
CREATE TABLE wrong_try (
  account VARCHAR(80) CHARACTER SET ascii COLLATE ascii_bin NOT NULL,
  place VARCHAR(80) CHARACTER SET ascii COLLATE ascii_bin NOT NULL,
  wrong INT NOT NULL,
  last DATETIME(3) NOT NULL,
  PRIMARY KEY (account, place),
  KEY by_last (last)
);
-- +goose Down
DROP TABLE wrong_try;
