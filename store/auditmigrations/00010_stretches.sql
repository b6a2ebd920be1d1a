-- +goose Up
-- The earliest and the latest time of each thousand records that follow one another, in place of indexes of
-- times: records are in the order of their times, but for a few.
CREATE TABLE stretch (
  first    INTEGER PRIMARY KEY, -- the number of the first of them
  earliest TEXT NOT NULL,       -- RFC 3339, UTC
  latest   TEXT NOT NULL
) STRICT;
INSERT INTO stretch
  WITH RECURSIVE whole (first) AS (
    SELECT (min(id) - 1) / 1000 * 1000 + 1 FROM record
    UNION ALL SELECT first + 1000 FROM whole WHERE first < (SELECT max(id) FROM record))
  SELECT first, min(at), max(at) FROM whole JOIN record ON id >= first AND id < first + 1000 GROUP BY first;
DROP INDEX record_at;
DROP INDEX record_actor_at;

-- +goose Down
CREATE INDEX record_at ON record (at);
CREATE INDEX record_actor_at ON record (actor, at);
DROP TABLE stretch;
