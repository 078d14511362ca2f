-- +goose Up
-- When snapshots of an application are taken by themselves, on all of its hosts or on those with a tag.
CREATE TABLE schedule (
  id CHAR(16) CHARACTER SET ascii COLLATE ascii_bin PRIMARY KEY,
  application VARCHAR(64) CHARACTER SET ascii COLLATE ascii_bin NOT NULL,
  tag VARCHAR(64) CHARACTER SET ascii COLLATE ascii_bin NOT NULL,
  cron VARCHAR(100) CHARACTER SET ascii NOT NULL,
  zone VARCHAR(64) CHARACTER SET ascii NOT NULL,
  spread_seconds INT NOT NULL,
  author VARCHAR(64) NOT NULL,
  created DATETIME(3) NOT NULL,
  next DATETIME(3) NOT NULL,
  last DATETIME(3) NULL,
  KEY by_next (next),
  KEY by_application (application, id)
);
-- What a schedule has made due: a host by itself, at its own moment.
CREATE TABLE due (
  schedule CHAR(16) CHARACTER SET ascii COLLATE ascii_bin NOT NULL,
  host VARCHAR(64) CHARACTER SET ascii COLLATE ascii_bin NOT NULL,
  at DATETIME(3) NOT NULL,
  PRIMARY KEY (schedule, host),
  KEY by_at (at),
  FOREIGN KEY (schedule) REFERENCES schedule (id) ON DELETE CASCADE
);
-- +goose Down
DROP TABLE due, schedule;
