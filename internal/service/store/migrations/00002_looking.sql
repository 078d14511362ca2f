-- +goose Up
-- The way from / to each root of a snapshot: what lies above the roots decides access below them.
ALTER TABLE snapshot ADD COLUMN ways MEDIUMTEXT NULL;
-- A question that an agent answers at once. It lives for a minute; whoever waits for the answer
-- may be at another instance than the agent.
CREATE TABLE question (
  id CHAR(16) CHARACTER SET ascii COLLATE ascii_bin PRIMARY KEY,
  host VARCHAR(64) CHARACTER SET ascii COLLATE ascii_bin NOT NULL,
  state ENUM('waiting', 'taken', 'answered') NOT NULL,
  ask MEDIUMTEXT NOT NULL,
  answer MEDIUMBLOB NULL,
  created DATETIME(3) NOT NULL,
  KEY by_host (host, state, id),
  KEY by_age (created)
);
-- +goose Down
DROP TABLE question;
ALTER TABLE snapshot DROP COLUMN ways;
