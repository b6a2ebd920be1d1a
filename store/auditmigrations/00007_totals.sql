-- +goose Up
-- Totals of the counts by day, so that a year of them is read at once, and what stands out in them. Whom
-- to look at, and from which day on, is kept until it was done.
-- What somebody did as somebody else, by whom they stood in for.
CREATE INDEX record_others ON record (standing, id)
  WHERE standing <> '' AND standing <> actor AND substr(standing, 1, length(actor) + 1) <> actor || ' ';
CREATE INDEX record_actor_at ON record (actor, at);
CREATE INDEX label_day_actor ON label_day (actor, day);
CREATE TABLE label_total (
  day   TEXT NOT NULL,
  label TEXT NOT NULL,
  n     INTEGER NOT NULL,
  rows  INTEGER NOT NULL,
  PRIMARY KEY (day, label)
) STRICT, WITHOUT ROWID;
CREATE TABLE label_month (
  month    TEXT NOT NULL, -- YYYY-MM, UTC
  label    TEXT NOT NULL,
  actor    TEXT NOT NULL,
  standing TEXT NOT NULL,
  address  TEXT NOT NULL,
  n        INTEGER NOT NULL,
  rows     INTEGER NOT NULL,
  PRIMARY KEY (month, label, actor, standing, address)
) STRICT, WITHOUT ROWID;
CREATE TABLE unusual (
  day     TEXT NOT NULL,
  kind    TEXT NOT NULL,
  actor   TEXT NOT NULL,
  label   TEXT NOT NULL,
  address TEXT NOT NULL,
  n       INTEGER NOT NULL,
  rows    INTEGER NOT NULL,
  usual   INTEGER NOT NULL,
  PRIMARY KEY (day, kind, actor, label, address)
) STRICT, WITHOUT ROWID;
CREATE INDEX unusual_actor ON unusual (actor, day);
CREATE TABLE unusual_due (
  actor TEXT PRIMARY KEY,
  day   TEXT NOT NULL
) STRICT, WITHOUT ROWID;
INSERT INTO label_total SELECT day, label, sum(n), sum(rows) FROM label_day WHERE decision <> 'refused' GROUP BY 1, 2;
INSERT INTO label_month SELECT substr(day, 1, 7), label, actor, standing, address, sum(n), sum(rows) FROM label_day
  WHERE decision <> 'refused' GROUP BY 1, 2, 3, 4, 5;
INSERT INTO unusual_due SELECT actor, min(day) FROM label_day GROUP BY actor;

-- +goose Down
DROP TABLE unusual_due;
DROP TABLE unusual;
DROP TABLE label_month;
DROP TABLE label_total;
DROP INDEX label_day_actor;
DROP INDEX record_actor_at;
DROP INDEX record_others;
