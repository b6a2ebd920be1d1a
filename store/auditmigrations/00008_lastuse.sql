-- +goose Up
-- When each set was needed last, so that what nobody used is told without its days; and behind which
-- record it was counted last, so that what is new is read alone.
ALTER TABLE use_set ADD COLUMN last TEXT NOT NULL DEFAULT '';   -- YYYY-MM-DD, UTC; '': it is not counted yet
ALTER TABLE use_set ADD COLUMN seen INTEGER NOT NULL DEFAULT 0; -- a record
UPDATE use_set SET last = m.last FROM (SELECT use_set, max(day) AS last FROM use_day GROUP BY 1) m WHERE m.use_set = use_set.id;
CREATE INDEX use_set_seen ON use_set (seen);
CREATE INDEX use_set_last ON use_set (last);
CREATE INDEX use_day_set ON use_day (use_set);
CREATE TABLE use_month (
  month   TEXT NOT NULL,    -- YYYY-MM, UTC
  use_set INTEGER NOT NULL REFERENCES use_set (id),
  n       INTEGER NOT NULL, -- queries
  PRIMARY KEY (month, use_set)
) STRICT, WITHOUT ROWID;
CREATE INDEX use_month_set ON use_month (use_set);
INSERT INTO use_month SELECT substr(day, 1, 7), use_set, sum(n) FROM use_day GROUP BY 1, 2;

-- +goose Down
DROP TABLE use_month;
DROP INDEX use_day_set;
DROP INDEX use_set_last;
DROP INDEX use_set_seen;
ALTER TABLE use_set DROP COLUMN seen;
ALTER TABLE use_set DROP COLUMN last;
