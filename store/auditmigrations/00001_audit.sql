-- +goose Up
CREATE TABLE record (
  id        INTEGER PRIMARY KEY,
  at        TEXT NOT NULL, -- RFC 3339, UTC
  actor     TEXT NOT NULL,
  standing  TEXT NOT NULL, -- the standpoint, where it is not the actor's own
  action    TEXT NOT NULL,
  decision  TEXT NOT NULL, -- allowed, refused or failed
  text      TEXT NOT NULL,
  objects   TEXT NOT NULL, -- a JSON array of paths
  missing   TEXT NOT NULL, -- a JSON array of what was missing
  reason    TEXT NOT NULL, -- the full reason of a refusal
  rows      INTEGER NOT NULL,
  took_us   INTEGER NOT NULL,
  address   TEXT NOT NULL
) STRICT;
CREATE INDEX record_actor ON record (actor, id);

-- +goose Down
DROP TABLE record;
