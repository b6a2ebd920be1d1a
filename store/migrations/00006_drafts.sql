-- +goose Up
-- Sets of changes that are not made yet. A name is taken while its draft is open.
CREATE TABLE draft (
  id        INTEGER PRIMARY KEY AUTOINCREMENT, -- which no other draft ever has
  name      TEXT NOT NULL,
  reason    TEXT NOT NULL,
  base      INTEGER NOT NULL, -- the revision that it was opened on
  opened    TEXT NOT NULL,    -- RFC 3339, UTC
  opener    INTEGER NOT NULL, -- the id in the access model
  status    TEXT NOT NULL,    -- open, published or dropped
  closed    TEXT NOT NULL,
  closer    INTEGER NOT NULL,
  revision  INTEGER NOT NULL, -- that it became; 0: none
  version   INTEGER NOT NULL DEFAULT 0 -- how often it was changed
) STRICT;
CREATE UNIQUE INDEX draft_name ON draft (name) WHERE status = 'open';

CREATE TABLE draft_step (
  draft   INTEGER NOT NULL REFERENCES draft (id),
  n       INTEGER NOT NULL,
  at      TEXT NOT NULL,    -- RFC 3339, UTC
  subject INTEGER NOT NULL, -- who put it in: the id in the access model
  reason  TEXT NOT NULL,
  says    TEXT NOT NULL,    -- a JSON array of sentences
  changes TEXT NOT NULL,    -- a JSON array
  PRIMARY KEY (draft, n)
) STRICT;

CREATE TABLE revision_name (
  name     TEXT PRIMARY KEY,
  revision INTEGER NOT NULL,
  at       TEXT NOT NULL, -- RFC 3339, UTC
  actor    TEXT NOT NULL
) STRICT;

-- What a revision did, in words, and what came of it for whom.
CREATE TABLE revision_note (
  revision INTEGER PRIMARY KEY,
  says     TEXT NOT NULL,   -- a JSON array of sentences
  effects  TEXT NOT NULL,   -- a JSON array, as the API has them
  draft    INTEGER NOT NULL -- that was published; 0: none
) STRICT;

-- +goose Down
DROP TABLE revision_note;
DROP TABLE revision_name;
DROP TABLE draft_step;
DROP TABLE draft;
