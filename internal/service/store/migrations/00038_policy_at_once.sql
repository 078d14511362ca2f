-- +goose Up
-- What holds already holds whatever the clock says later.
UPDATE policy SET says = next, next = NULL WHERE next IS NOT NULL AND next_from <= UTC_TIMESTAMP(3);
-- +goose Down
SELECT 1;
