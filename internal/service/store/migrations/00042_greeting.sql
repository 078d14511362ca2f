-- +goose Up
-- What runs on a host now, as its agent said when it started last.
ALTER TABLE host ADD COLUMN protocol INT NOT NULL DEFAULT 1, ADD COLUMN oldest INT NOT NULL DEFAULT 1, ADD COLUMN system VARCHAR(160) NOT NULL DEFAULT '',
  ADD COLUMN up_since DATETIME(3) NULL, ADD COLUMN runs_since DATETIME(3) NULL;
-- +goose Down
ALTER TABLE host DROP COLUMN protocol, DROP COLUMN oldest, DROP COLUMN system, DROP COLUMN up_since, DROP COLUMN runs_since;
