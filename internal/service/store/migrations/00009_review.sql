-- +goose Up
-- Who approved a plan, with their word on what the checker warns of gravely. Taken back, it is gone.
CREATE TABLE plan_approval (
  plan CHAR(16) CHARACTER SET ascii COLLATE ascii_bin NOT NULL,
  reviewer VARCHAR(64) NOT NULL,
  at DATETIME(3) NOT NULL,
  remark TEXT NOT NULL,
  words MEDIUMTEXT NOT NULL,
  PRIMARY KEY (plan, reviewer),
  FOREIGN KEY (plan) REFERENCES plan (id) ON DELETE CASCADE
);
-- What people say of a plan, or of one of its steps. Nothing of it is ever changed.
CREATE TABLE plan_remark (
  plan CHAR(16) CHARACTER SET ascii COLLATE ascii_bin NOT NULL,
  id CHAR(16) CHARACTER SET ascii COLLATE ascii_bin NOT NULL,
  author VARCHAR(64) NOT NULL,
  at DATETIME(3) NOT NULL,
  host VARCHAR(64) CHARACTER SET ascii COLLATE ascii_bin NOT NULL,
  path MEDIUMBLOB NOT NULL,
  body TEXT NOT NULL,
  PRIMARY KEY (plan, id),
  FOREIGN KEY (plan) REFERENCES plan (id) ON DELETE CASCADE
);
-- Changes with each approval, so that those which come together are put in line.
ALTER TABLE plan ADD COLUMN touched INT NOT NULL DEFAULT 0;
-- How many people have to approve the plans of an application; one where nothing is said.
CREATE TABLE review_rule (
  application VARCHAR(64) CHARACTER SET ascii COLLATE ascii_bin PRIMARY KEY,
  reviewers INT NOT NULL
);
-- Plans that were approved before.
INSERT INTO plan_approval (plan, reviewer, at, remark, words)
  SELECT id, decided_by, decided, remark, '{}' FROM plan WHERE decided_by <> '' AND decided IS NOT NULL AND state <> 'declined';
-- +goose Down
ALTER TABLE plan DROP COLUMN touched;
DROP TABLE review_rule, plan_remark, plan_approval;
