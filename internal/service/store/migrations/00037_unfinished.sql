-- +goose Up
-- What was broken off in the middle of a comparison is looked for, and taken away.
ALTER TABLE report ADD KEY by_ready (ready, created);
-- +goose Down
ALTER TABLE report DROP KEY by_ready;
