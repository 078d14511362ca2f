-- +goose Up
-- What a plan leaves as it is may be five hundred paths, each as long as paths can be; access lists of shares, patterns and lists of roots
-- may be long, too.
ALTER TABLE plan MODIFY source MEDIUMTEXT NOT NULL;
ALTER TABLE snapshot MODIFY roots MEDIUMTEXT NOT NULL;
ALTER TABLE waiver MODIFY pattern MEDIUMTEXT NOT NULL, MODIFY found MEDIUMTEXT NOT NULL;
ALTER TABLE cause MODIFY declared MEDIUMTEXT NOT NULL, MODIFY found MEDIUMTEXT NOT NULL, MODIFY why MEDIUMTEXT NOT NULL, MODIFY instead MEDIUMTEXT NOT NULL;
-- +goose Down
ALTER TABLE cause MODIFY declared TEXT NOT NULL, MODIFY found TEXT NOT NULL, MODIFY why TEXT NOT NULL, MODIFY instead TEXT NOT NULL;
ALTER TABLE waiver MODIFY pattern TEXT NOT NULL, MODIFY found TEXT NOT NULL;
ALTER TABLE snapshot MODIFY roots TEXT NOT NULL;
ALTER TABLE plan MODIFY source TEXT NOT NULL;
