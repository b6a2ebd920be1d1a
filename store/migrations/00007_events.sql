-- +goose Up
-- What happened, for pages that are open and for webhooks: an outbox. Each line is written in one
-- transaction with what it tells of.
CREATE TABLE event (
  id      INTEGER PRIMARY KEY AUTOINCREMENT, -- which no other event ever has
  at      TEXT NOT NULL,    -- RFC 3339, UTC
  kind    TEXT NOT NULL,    -- such as draft.published
  about   TEXT NOT NULL,    -- the name of what it is about
  subject INTEGER NOT NULL, -- who may hear of it beside those who review: an id in the access model; 0: nobody
  data    TEXT NOT NULL     -- a JSON object
) STRICT;

-- Where other systems are told of it.
CREATE TABLE webhook (
  name      TEXT PRIMARY KEY,
  url       TEXT NOT NULL,
  secret    BLOB NOT NULL,    -- the key of signatures
  topics    TEXT NOT NULL,    -- a JSON array
  status    TEXT NOT NULL,    -- active or stopped
  maker     INTEGER NOT NULL, -- the id in the access model
  made      TEXT NOT NULL,    -- RFC 3339, UTC
  seen      INTEGER NOT NULL, -- the last event that is dealt with
  failures  INTEGER NOT NULL, -- how often the next one could not be delivered
  next      TEXT NOT NULL,    -- when it is tried again: RFC 3339, UTC; empty: at once
  trouble   TEXT NOT NULL,    -- why the last try failed; empty: it did not
  delivered TEXT NOT NULL     -- when something was delivered last
) STRICT;

-- What the checks that are run by the service came to last.
CREATE TABLE check_result (
  kind   TEXT NOT NULL, -- guardrail or test
  name   TEXT NOT NULL,
  status TEXT NOT NULL, -- holds, fails or unknown
  says   TEXT NOT NULL, -- a JSON array
  since  TEXT NOT NULL, -- when it came to have this status: RFC 3339, UTC
  PRIMARY KEY (kind, name)
) STRICT;

-- +goose Down
DROP TABLE check_result;
DROP TABLE webhook;
DROP TABLE event;
