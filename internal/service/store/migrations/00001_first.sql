-- +goose Up
-- Ids are 16 characters that sort by time, made by the program: no counters, so that any
-- instance and any node of a cluster can make them. Names are ASCII and compared as bytes.
CREATE TABLE person (
  name VARCHAR(64) CHARACTER SET ascii COLLATE ascii_bin PRIMARY KEY,
  password VARCHAR(255) NOT NULL,
  roles VARCHAR(255) NOT NULL,
  must_change BOOLEAN NOT NULL,
  created DATETIME(3) NOT NULL
);
CREATE TABLE session (
  token_hash BINARY(32) PRIMARY KEY,
  person VARCHAR(64) CHARACTER SET ascii COLLATE ascii_bin NOT NULL,
  created DATETIME(3) NOT NULL,
  expires DATETIME(3) NOT NULL,
  KEY by_person (person),
  KEY by_expiry (expires),
  FOREIGN KEY (person) REFERENCES person (name) ON DELETE CASCADE
);
CREATE TABLE host (
  name VARCHAR(64) CHARACTER SET ascii COLLATE ascii_bin PRIMARY KEY,
  tags VARCHAR(1024) CHARACTER SET ascii NOT NULL,
  certificate VARCHAR(64) CHARACTER SET ascii NOT NULL DEFAULT '',
  version VARCHAR(64) NOT NULL DEFAULT '',
  created DATETIME(3) NOT NULL,
  last_seen DATETIME(3) NULL
);
CREATE TABLE enrolment (
  code_hash BINARY(32) PRIMARY KEY,
  host VARCHAR(64) CHARACTER SET ascii COLLATE ascii_bin NOT NULL,
  expires DATETIME(3) NOT NULL,
  used DATETIME(3) NULL,
  KEY by_host (host),
  FOREIGN KEY (host) REFERENCES host (name) ON DELETE CASCADE
);
CREATE TABLE work (
  id CHAR(16) CHARACTER SET ascii COLLATE ascii_bin PRIMARY KEY,
  host VARCHAR(64) CHARACTER SET ascii COLLATE ascii_bin NOT NULL,
  kind VARCHAR(16) CHARACTER SET ascii NOT NULL,
  subject CHAR(16) CHARACTER SET ascii COLLATE ascii_bin NOT NULL,
  state ENUM('waiting', 'taken', 'done') NOT NULL,
  lease_until DATETIME(3) NULL,
  tries INT NOT NULL DEFAULT 0,
  created DATETIME(3) NOT NULL,
  KEY by_host (host, state, id)
);
CREATE TABLE node (
  hash BINARY(32) PRIMARY KEY,
  data MEDIUMBLOB NOT NULL
);
CREATE TABLE directory (
  hash BINARY(32) PRIMARY KEY,
  data MEDIUMBLOB NOT NULL
);
CREATE TABLE edition (
  application VARCHAR(64) CHARACTER SET ascii COLLATE ascii_bin NOT NULL,
  number INT NOT NULL,
  state ENUM('draft', 'published', 'former') NOT NULL,
  text MEDIUMTEXT NOT NULL,
  title VARCHAR(255) NOT NULL,
  author VARCHAR(64) NOT NULL,
  created DATETIME(3) NOT NULL,
  published_by VARCHAR(64) NOT NULL DEFAULT '',
  published DATETIME(3) NULL,
  PRIMARY KEY (application, number),
  KEY by_state (state, application)
);
CREATE TABLE snapshot (
  id CHAR(16) CHARACTER SET ascii COLLATE ascii_bin PRIMARY KEY,
  host VARCHAR(64) CHARACTER SET ascii COLLATE ascii_bin NOT NULL,
  application VARCHAR(64) CHARACTER SET ascii COLLATE ascii_bin NOT NULL,
  state ENUM('waiting', 'ready', 'failed') NOT NULL,
  roots TEXT NOT NULL,
  forest BINARY(32) NULL,
  directory BINARY(32) NULL,
  paths BIGINT NOT NULL DEFAULT 0,
  gaps BIGINT NOT NULL DEFAULT 0,
  denied MEDIUMTEXT NOT NULL,
  message TEXT NOT NULL,
  requested_by VARCHAR(64) NOT NULL,
  created DATETIME(3) NOT NULL,
  taken DATETIME(3) NULL,
  KEY by_place (application, host, state, id),
  KEY by_host (host, id)
);
CREATE TABLE report (
  id CHAR(16) CHARACTER SET ascii COLLATE ascii_bin PRIMARY KEY,
  application VARCHAR(64) CHARACTER SET ascii COLLATE ascii_bin NOT NULL,
  edition INT NOT NULL,
  host VARCHAR(64) CHARACTER SET ascii COLLATE ascii_bin NOT NULL,
  snapshot CHAR(16) CHARACTER SET ascii COLLATE ascii_bin NOT NULL,
  ready BOOLEAN NOT NULL,
  paths BIGINT NOT NULL DEFAULT 0,
  judged BIGINT NOT NULL DEFAULT 0,
  findings BIGINT NOT NULL DEFAULT 0,
  unread BIGINT NOT NULL DEFAULT 0,
  problems MEDIUMTEXT NOT NULL,
  created DATETIME(3) NOT NULL,
  KEY by_place (application, host, ready, id),
  KEY by_snapshot (snapshot, edition)
);
CREATE TABLE finding_group (
  report CHAR(16) CHARACTER SET ascii COLLATE ascii_bin NOT NULL,
  seq INT NOT NULL,
  id CHAR(12) CHARACTER SET ascii COLLATE ascii_bin NOT NULL,
  body MEDIUMTEXT NOT NULL,
  PRIMARY KEY (report, seq),
  KEY by_id (report, id),
  FOREIGN KEY (report) REFERENCES report (id) ON DELETE CASCADE
);
CREATE TABLE finding (
  report CHAR(16) CHARACTER SET ascii COLLATE ascii_bin NOT NULL,
  seq INT NOT NULL,
  group_id CHAR(12) CHARACTER SET ascii COLLATE ascii_bin NOT NULL,
  path MEDIUMBLOB NOT NULL,
  kind TINYINT NOT NULL,
  aspect VARCHAR(16) CHARACTER SET ascii NOT NULL,
  found_set MEDIUMBLOB NOT NULL,
  PRIMARY KEY (report, seq),
  KEY by_group (report, group_id, seq),
  FOREIGN KEY (report) REFERENCES report (id) ON DELETE CASCADE
);
CREATE TABLE unread (
  report CHAR(16) CHARACTER SET ascii COLLATE ascii_bin NOT NULL,
  seq INT NOT NULL,
  path MEDIUMBLOB NOT NULL,
  why VARCHAR(255) NOT NULL,
  PRIMARY KEY (report, seq),
  FOREIGN KEY (report) REFERENCES report (id) ON DELETE CASCADE
);
CREATE TABLE plan (
  id CHAR(16) CHARACTER SET ascii COLLATE ascii_bin PRIMARY KEY,
  application VARCHAR(64) CHARACTER SET ascii COLLATE ascii_bin NOT NULL,
  kind ENUM('remediation', 'restore', 'adjustment') NOT NULL,
  title VARCHAR(255) NOT NULL,
  state ENUM('draft', 'in review', 'approved', 'declined', 'running', 'halted', 'finished') NOT NULL,
  author VARCHAR(64) NOT NULL,
  created DATETIME(3) NOT NULL,
  digest BINARY(32) NOT NULL,
  manifest MEDIUMBLOB NOT NULL,
  source TEXT NOT NULL,
  decided_by VARCHAR(64) NOT NULL DEFAULT '',
  decided DATETIME(3) NULL,
  remark TEXT NOT NULL,
  expires DATETIME(3) NULL,
  KEY by_state (state, id),
  KEY by_application (application, id)
);
CREATE TABLE plan_chunk (
  plan CHAR(16) CHARACTER SET ascii COLLATE ascii_bin NOT NULL,
  host VARCHAR(64) CHARACTER SET ascii COLLATE ascii_bin NOT NULL,
  n INT NOT NULL,
  data MEDIUMBLOB NOT NULL,
  PRIMARY KEY (plan, host, n),
  FOREIGN KEY (plan) REFERENCES plan (id) ON DELETE CASCADE
);
CREATE TABLE plan_group (
  plan CHAR(16) CHARACTER SET ascii COLLATE ascii_bin NOT NULL,
  n INT NOT NULL,
  body MEDIUMTEXT NOT NULL,
  PRIMARY KEY (plan, n),
  FOREIGN KEY (plan) REFERENCES plan (id) ON DELETE CASCADE
);
CREATE TABLE run (
  id CHAR(16) CHARACTER SET ascii COLLATE ascii_bin PRIMARY KEY,
  plan CHAR(16) CHARACTER SET ascii COLLATE ascii_bin NOT NULL,
  state ENUM('running', 'halted', 'finished') NOT NULL,
  started_by VARCHAR(64) NOT NULL,
  started DATETIME(3) NOT NULL,
  ended DATETIME(3) NULL,
  endings INT NOT NULL DEFAULT 0,
  UNIQUE KEY by_plan (plan)
);
CREATE TABLE run_host (
  run CHAR(16) CHARACTER SET ascii COLLATE ascii_bin NOT NULL,
  host VARCHAR(64) CHARACTER SET ascii COLLATE ascii_bin NOT NULL,
  state ENUM('waiting', 'running', 'halted', 'finished', 'failed') NOT NULL,
  halt BOOLEAN NOT NULL DEFAULT FALSE,
  total INT NOT NULL,
  progress INT NOT NULL DEFAULT 0,
  done INT NOT NULL DEFAULT 0,
  already INT NOT NULL DEFAULT 0,
  skipped INT NOT NULL DEFAULT 0,
  refused INT NOT NULL DEFAULT 0,
  wrong INT NOT NULL DEFAULT 0,
  message TEXT NOT NULL,
  PRIMARY KEY (run, host),
  FOREIGN KEY (run) REFERENCES run (id) ON DELETE CASCADE
);
CREATE TABLE run_result (
  run CHAR(16) CHARACTER SET ascii COLLATE ascii_bin NOT NULL,
  host VARCHAR(64) CHARACTER SET ascii COLLATE ascii_bin NOT NULL,
  step INT NOT NULL,
  outcome VARCHAR(16) CHARACTER SET ascii NOT NULL,
  path MEDIUMBLOB NOT NULL,
  reason TEXT NOT NULL,
  PRIMARY KEY (run, host, step),
  FOREIGN KEY (run) REFERENCES run (id) ON DELETE CASCADE
);
CREATE TABLE run_original (
  run CHAR(16) CHARACTER SET ascii COLLATE ascii_bin NOT NULL,
  host VARCHAR(64) CHARACTER SET ascii COLLATE ascii_bin NOT NULL,
  n INT NOT NULL,
  data MEDIUMBLOB NOT NULL,
  PRIMARY KEY (run, host, n),
  FOREIGN KEY (run) REFERENCES run (id) ON DELETE CASCADE
);
CREATE TABLE audit (
  id CHAR(16) CHARACTER SET ascii COLLATE ascii_bin PRIMARY KEY,
  at DATETIME(3) NOT NULL,
  who VARCHAR(80) NOT NULL,
  what VARCHAR(32) CHARACTER SET ascii NOT NULL,
  subject VARCHAR(255) NOT NULL,
  detail TEXT NOT NULL
);
-- +goose Down
DROP TABLE audit, run_original, run_result, run_host, run, plan_group, plan_chunk, plan, unread, finding, finding_group, report, snapshot, edition, directory, node, work, enrolment, host, session, person;
