-- +goose Up
-- The earliest and the latest time of every thousand consecutive records, instead of indexes on time. When the
-- file is opened, the service computes those that are missing.
CREATE TABLE stretch (
  first    INTEGER PRIMARY KEY, -- the number of the first of them
  earliest TEXT NOT NULL,       -- RFC 3339, UTC
  latest   TEXT NOT NULL
) STRICT;
DROP INDEX record_at;
DROP INDEX record_actor_at;

-- +goose Down
CREATE INDEX record_at ON record (at);
CREATE INDEX record_actor_at ON record (actor, at);
DROP TABLE stretch;
