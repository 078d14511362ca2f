-- +goose Up
-- The runs on a host, the newest first.
ALTER TABLE run_host ADD KEY by_host (host, run);
-- +goose Down
ALTER TABLE run_host DROP KEY by_host;
