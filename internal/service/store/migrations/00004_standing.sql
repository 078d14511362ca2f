-- +goose Up
-- Since when a finding is there. It is the same finding where path and aspect are.
CREATE TABLE standing (
  application VARCHAR(64) CHARACTER SET ascii COLLATE ascii_bin NOT NULL,
  host VARCHAR(64) CHARACTER SET ascii COLLATE ascii_bin NOT NULL,
  identity BINARY(16) NOT NULL,
  path MEDIUMBLOB NOT NULL,
  first_seen DATETIME(3) NOT NULL,
  since DATETIME(3) NOT NULL,
  last_seen DATETIME(3) NULL,
  gone DATETIME(3) NULL,
  spells INT NOT NULL,
  PRIMARY KEY (application, host, identity)
);
ALTER TABLE finding ADD COLUMN identity BINARY(16) NOT NULL DEFAULT '' AFTER group_id, ADD KEY by_identity (report, identity);
ALTER TABLE finding_group ADD COLUMN since DATETIME(3) NULL AFTER id, ADD COLUMN fresh INT NOT NULL DEFAULT 0 AFTER since, ADD COLUMN returned INT NOT NULL DEFAULT 0 AFTER fresh;
ALTER TABLE report ADD COLUMN waived BIGINT NOT NULL DEFAULT 0 AFTER unread, ADD COLUMN opens BIGINT NOT NULL DEFAULT 0 AFTER waived, ADD COLUMN closes BIGINT NOT NULL DEFAULT 0 AFTER opens,
  ADD COLUMN fresh BIGINT NOT NULL DEFAULT 0 AFTER closes, ADD COLUMN returned BIGINT NOT NULL DEFAULT 0 AFTER fresh, ADD COLUMN gone BIGINT NOT NULL DEFAULT 0 AFTER returned;
-- Folders in which new paths come out otherwise than declared, and the likely cause.
CREATE TABLE cause (
  application VARCHAR(64) CHARACTER SET ascii COLLATE ascii_bin NOT NULL,
  host VARCHAR(64) CHARACTER SET ascii COLLATE ascii_bin NOT NULL,
  identity BINARY(16) NOT NULL,
  folder MEDIUMBLOB NOT NULL,
  kind TINYINT UNSIGNED NOT NULL,
  aspect VARCHAR(16) CHARACTER SET ascii NOT NULL,
  again BOOLEAN NOT NULL,
  paths INT NOT NULL,
  times INT NOT NULL,
  first_seen DATETIME(3) NOT NULL,
  last_seen DATETIME(3) NOT NULL,
  example MEDIUMBLOB NOT NULL,
  declared TEXT NOT NULL,
  found TEXT NOT NULL,
  why TEXT NOT NULL,
  instead TEXT NOT NULL,
  PRIMARY KEY (application, host, identity),
  KEY by_time (application, host, last_seen)
);
-- Folders with findings in them or below, and where these stand in the report.
CREATE TABLE place (
  report CHAR(16) CHARACTER SET ascii COLLATE ascii_bin NOT NULL,
  identity BINARY(16) NOT NULL,
  parent BINARY(16) NOT NULL,
  path MEDIUMBLOB NOT NULL,
  findings INT NOT NULL,
  opens INT NOT NULL,
  closes INT NOT NULL,
  waived INT NOT NULL,
  here_findings INT NOT NULL,
  here_opens INT NOT NULL,
  here_closes INT NOT NULL,
  here_waived INT NOT NULL,
  first_seq INT NOT NULL,
  last_seq INT NOT NULL,
  PRIMARY KEY (report, identity),
  KEY by_parent (report, parent, opens),
  FOREIGN KEY (report) REFERENCES report (id) ON DELETE CASCADE
);
-- +goose Down
DROP TABLE place, cause, standing;
ALTER TABLE report DROP COLUMN waived, DROP COLUMN opens, DROP COLUMN closes, DROP COLUMN fresh, DROP COLUMN returned, DROP COLUMN gone;
ALTER TABLE finding_group DROP COLUMN since, DROP COLUMN fresh, DROP COLUMN returned;
ALTER TABLE finding DROP KEY by_identity, DROP COLUMN identity;
