-- +goose Up
ALTER TABLE token ADD COLUMN kind TEXT NOT NULL DEFAULT 'session'; -- session: from signing in; token: made by name
ALTER TABLE token ADD COLUMN role INTEGER NOT NULL DEFAULT 0;      -- the role that a session acts in; 0: all

CREATE TABLE checkpoint (
  revision INTEGER PRIMARY KEY,
  hash     TEXT NOT NULL, -- of the journal at that revision
  digest   TEXT NOT NULL  -- SHA-256 of the checkpoint's file
) STRICT;

-- +goose Down
DROP TABLE checkpoint;
ALTER TABLE token DROP COLUMN role;
ALTER TABLE token DROP COLUMN kind;
