-- +goose Up
-- When a host was enrolled, from when on its agent has used the certificate that it renewed last, and since when two are known to hold its
-- identity.
ALTER TABLE host ADD COLUMN enrolled DATETIME(3) NULL, ADD COLUMN renewed_used DATETIME(3) NULL, ADD COLUMN twice DATETIME(3) NULL;
UPDATE host SET enrolled = UTC_TIMESTAMP(3) WHERE certificate <> '';
-- +goose Down
ALTER TABLE host DROP COLUMN enrolled, DROP COLUMN renewed_used, DROP COLUMN twice;
