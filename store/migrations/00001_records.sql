-- +goose Up
CREATE TABLE journal (
  revision INTEGER PRIMARY KEY,
  at       TEXT NOT NULL, -- RFC 3339, UTC
  actor    TEXT NOT NULL,
  reason   TEXT NOT NULL,
  changes  TEXT NOT NULL, -- a JSON array
  previous TEXT NOT NULL, -- the hash of the revision before
  hash     TEXT NOT NULL  -- SHA-256 of all of the above, in hexadecimal
) STRICT;

CREATE TABLE password (
  subject INTEGER PRIMARY KEY, -- the id in the access model
  hash    TEXT NOT NULL        -- argon2id, in PHC string format
) STRICT;

CREATE TABLE token (
  hash    TEXT PRIMARY KEY, -- SHA-256 of the token
  subject INTEGER NOT NULL,
  name    TEXT NOT NULL,
  csrf    TEXT NOT NULL,    -- for the console's sessions; empty for others
  created TEXT NOT NULL,
  expires TEXT NOT NULL
) STRICT;
CREATE INDEX token_subject ON token (subject);

CREATE TABLE source (
  name   TEXT PRIMARY KEY,
  kind   TEXT NOT NULL, -- sqlite
  folder TEXT NOT NULL  -- below the data folder when not absolute
) STRICT;

-- +goose Down
DROP TABLE source;
DROP TABLE token;
DROP TABLE password;
DROP TABLE journal;
