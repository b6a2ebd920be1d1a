-- +goose Up
-- What of somebody's rights was needed: each record names a set of them. They are counted by day, apart
-- from the record, so that the counts outlast it. What is counted, and how far, is written in one
-- transaction: each record is counted once.
ALTER TABLE record ADD COLUMN uses INTEGER NOT NULL DEFAULT 0; -- a use_set; 0: none
CREATE INDEX record_at ON record (at);
CREATE TABLE use_set (
  id    INTEGER PRIMARY KEY,
  needs TEXT NOT NULL UNIQUE -- a JSON object
) STRICT;
CREATE TABLE use_day (
  day     TEXT NOT NULL,    -- YYYY-MM-DD, UTC
  use_set INTEGER NOT NULL REFERENCES use_set (id),
  n       INTEGER NOT NULL, -- queries
  PRIMARY KEY (day, use_set)
) STRICT, WITHOUT ROWID;
-- What was read of each label, by whom, from where.
CREATE TABLE label_day (
  day      TEXT NOT NULL,
  label    TEXT NOT NULL,
  actor    TEXT NOT NULL,
  standing TEXT NOT NULL, -- the standpoint, where it is not the actor's own
  address  TEXT NOT NULL,
  decision TEXT NOT NULL,
  n        INTEGER NOT NULL, -- records
  rows     INTEGER NOT NULL,
  PRIMARY KEY (day, label, actor, standing, address, decision)
) STRICT, WITHOUT ROWID;
-- All that was recorded, by day.
CREATE TABLE action_day (
  day      TEXT NOT NULL,
  action   TEXT NOT NULL,
  decision TEXT NOT NULL,
  n        INTEGER NOT NULL,
  rows     INTEGER NOT NULL,
  PRIMARY KEY (day, action, decision)
) STRICT, WITHOUT ROWID;
CREATE TABLE counted (
  one    INTEGER PRIMARY KEY CHECK (one = 1),
  record INTEGER NOT NULL, -- the last that is counted
  since  TEXT NOT NULL     -- when use began to be counted: RFC 3339, UTC
) STRICT;
INSERT INTO counted (one, record, since) VALUES (1, 0, strftime('%Y-%m-%dT%H:%M:%SZ', 'now'));

-- +goose Down
DROP TABLE counted;
DROP TABLE action_day;
DROP TABLE label_day;
DROP TABLE use_day;
DROP TABLE use_set;
DROP INDEX record_at;
ALTER TABLE record DROP COLUMN uses;
