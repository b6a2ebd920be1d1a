-- +goose Up
-- What people ask to be given. What they ask for is kept as they wrote it: it need not be there.
CREATE TABLE access_request (
  id        INTEGER PRIMARY KEY AUTOINCREMENT,
  at        TEXT NOT NULL,    -- RFC 3339, UTC
  subject   INTEGER NOT NULL, -- who asks: the id in the access model
  needs     TEXT NOT NULL,    -- a JSON array of "PRIVILEGE on path"
  shown     TEXT NOT NULL,    -- what the asker is shown of that
  reason    TEXT NOT NULL,
  reference TEXT NOT NULL,    -- the refusal that it came from; empty: none
  status    TEXT NOT NULL,    -- open, granted, declined or withdrawn
  decided   TEXT NOT NULL,    -- when: RFC 3339, UTC
  decider   INTEGER NOT NULL,
  word      TEXT NOT NULL,    -- for the asker
  until     TEXT NOT NULL,    -- of what was granted; empty: without end
  revision  INTEGER NOT NULL  -- that granted it; 0: none
) STRICT;
CREATE INDEX access_request_status ON access_request (status, id);
CREATE INDEX access_request_subject ON access_request (subject, id);

-- +goose Down
DROP TABLE access_request;
