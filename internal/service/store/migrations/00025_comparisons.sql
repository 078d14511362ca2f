-- +goose Up
-- Snapshots that are to be held against what is published before anybody sees them, and who is at it until when. No agent waits for that.
CREATE TABLE comparison (
  snapshot CHAR(16) CHARACTER SET ascii COLLATE ascii_bin PRIMARY KEY,
  application VARCHAR(64) CHARACTER SET ascii COLLATE ascii_bin NOT NULL,
  host VARCHAR(64) CHARACTER SET ascii COLLATE ascii_bin NOT NULL,
  heard BOOLEAN NOT NULL,
  created DATETIME(3) NOT NULL,
  lease_until DATETIME(3) NULL,
  tries INT NOT NULL DEFAULT 0,
  KEY by_created (created, snapshot),
  KEY by_place (application, host),
  FOREIGN KEY (snapshot) REFERENCES snapshot (id) ON DELETE CASCADE
);
INSERT INTO comparison (snapshot, application, host, heard, created) SELECT id, application, host, heard, created FROM snapshot WHERE state = 'waiting' AND forest IS NOT NULL;
-- +goose Down
DROP TABLE comparison;
