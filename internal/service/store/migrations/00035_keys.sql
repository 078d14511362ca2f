-- +goose Up
-- By which keys of the service a host's agent knows it: the fingerprint of the authority that signed its certificate and that it trusts,
-- and the key that signs orders; '' where an agent of an earlier version never told.
ALTER TABLE host ADD COLUMN authority CHAR(64) CHARACTER SET ascii COLLATE ascii_bin NOT NULL DEFAULT '',
  ADD COLUMN order_key CHAR(64) CHARACTER SET ascii COLLATE ascii_bin NOT NULL DEFAULT '';
-- +goose Down
ALTER TABLE host DROP COLUMN authority, DROP COLUMN order_key;
