-- +goose Up
-- What the overview counts of a report, and what it asks for by time.
ALTER TABLE report ADD COLUMN grave BIGINT NOT NULL DEFAULT 0 AFTER closes;
ALTER TABLE waiver ADD KEY by_end (ends);
ALTER TABLE run ADD KEY by_state (state, id);
-- History is asked for by who, by what and by subject; its ids sort by time.
ALTER TABLE audit ADD KEY by_who (who, id), ADD KEY by_what (what, id), ADD KEY by_subject (subject, id);
-- How much an application's drift on a host was, at the end of each day with a report.
CREATE TABLE day (
  on_day DATE NOT NULL,
  application VARCHAR(64) CHARACTER SET ascii COLLATE ascii_bin NOT NULL,
  host VARCHAR(64) CHARACTER SET ascii COLLATE ascii_bin NOT NULL,
  findings BIGINT NOT NULL,
  opens BIGINT NOT NULL,
  closes BIGINT NOT NULL,
  PRIMARY KEY (on_day, application, host)
);
-- +goose Down
DROP TABLE day;
ALTER TABLE audit DROP KEY by_who, DROP KEY by_what, DROP KEY by_subject;
ALTER TABLE run DROP KEY by_state;
ALTER TABLE waiver DROP KEY by_end;
ALTER TABLE report DROP COLUMN grave;
