-- +goose Up
-- What all below a node comes to (tree.Measure), so that what would be too large for whoever walks it is refused when it
-- comes. Of nodes from before nothing is known: way is NULL.
ALTER TABLE node ADD COLUMN paths BIGINT NOT NULL DEFAULT 0, ADD COLUMN gaps BIGINT NOT NULL DEFAULT 0, ADD COLUMN depth INT NOT NULL DEFAULT 0,
  ADD COLUMN below INT NOT NULL DEFAULT 0, ADD COLUMN way INT NULL;
-- +goose Down
ALTER TABLE node DROP COLUMN paths, DROP COLUMN gaps, DROP COLUMN depth, DROP COLUMN below, DROP COLUMN way;
