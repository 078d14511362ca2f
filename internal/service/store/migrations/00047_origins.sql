-- +goose Up
-- Where the findings of a group come from, as JSON: who did the last thing to their paths, and likely causes; '' where
-- nothing is known.
ALTER TABLE finding_group ADD COLUMN origins TEXT NOT NULL DEFAULT '';
-- What was done last on a host.
ALTER TABLE act ADD KEY by_place (application, host, at);
-- +goose Down
ALTER TABLE act DROP KEY by_place;
ALTER TABLE finding_group DROP COLUMN origins;
