-- +goose Up
-- The certificate that an agent has got in place of its last one, which counts until it ends: the agent may not have got the new one.
ALTER TABLE host ADD COLUMN renewed VARCHAR(64) CHARACTER SET ascii NOT NULL DEFAULT '' AFTER certificate;
-- +goose Down
ALTER TABLE host DROP COLUMN renewed;
