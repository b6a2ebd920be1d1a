-- +goose Up
-- Where the chain begins, after the records before were taken away.
CREATE TABLE pruned (
  one  INTEGER PRIMARY KEY CHECK (one = 1),
  id   INTEGER NOT NULL, -- the last record that is gone
  hash TEXT NOT NULL,
  at   TEXT NOT NULL     -- when it was taken away: RFC 3339, UTC
) STRICT;

-- +goose Down
DROP TABLE pruned;
