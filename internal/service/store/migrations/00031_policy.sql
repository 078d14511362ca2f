-- +goose Up
-- When a session was last used by somebody, and when its person last showed who they are.
ALTER TABLE session ADD COLUMN used DATETIME(3) NULL, ADD COLUMN shown DATETIME(3) NULL;
UPDATE session SET used = UTC_TIMESTAMP(3), shown = created;
-- From when on approvals of a person count; NULL is always.
ALTER TABLE person ADD COLUMN counts_from DATETIME(3) NULL;
-- What holds for people and their sessions (JSON), what is to hold from some time on, and when the first person was made, where a
-- version made them that knew this table.
CREATE TABLE policy (
  name CHAR(7) CHARACTER SET ascii COLLATE ascii_bin PRIMARY KEY,
  began DATETIME(3) NULL,
  says TEXT NOT NULL,
  next TEXT NULL,
  next_from DATETIME(3) NULL,
  next_by VARCHAR(80) NOT NULL DEFAULT ''
);
INSERT INTO policy (name, says) SELECT 'service', IF(EXISTS (SELECT 1 FROM person),
  '{"managers_approve":true,"reviewer_after":24,"second_factor":[],"idle":30}', '{"managers_approve":false,"reviewer_after":24,"second_factor":[],"idle":30}');
-- +goose Down
DROP TABLE policy;
ALTER TABLE person DROP COLUMN counts_from;
ALTER TABLE session DROP COLUMN used, DROP COLUMN shown;
