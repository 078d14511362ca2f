-- +goose Up
-- Calls that came with a key, so that one that is made again is carried out once: its row is written along with
-- the first change that it makes. The answer is sealed by the service's own key.
CREATE TABLE attempt (
  id BINARY(32) PRIMARY KEY,
  asked BINARY(32) NOT NULL,
  maker BINARY(16) NOT NULL,
  at DATETIME(3) NOT NULL,
  status SMALLINT NULL,
  answer MEDIUMBLOB NULL,
  KEY by_at (at)
);
-- Whose code it was: an agent that got no answer asks again with the same request.
ALTER TABLE enrolment ADD COLUMN used_by BINARY(32) NULL;
-- What waits is looked for by each instance, for all agents that wait there.
ALTER TABLE work ADD KEY by_state (state, host);
ALTER TABLE question ADD KEY by_state (state, host);
-- +goose Down
ALTER TABLE question DROP KEY by_state;
ALTER TABLE work DROP KEY by_state;
ALTER TABLE enrolment DROP COLUMN used_by;
DROP TABLE attempt;
