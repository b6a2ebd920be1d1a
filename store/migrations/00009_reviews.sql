-- +goose Up
-- Reviews of access, and what is to be decided in them. A closed review is signed: its content's hash
-- is in the journal's chain.
CREATE TABLE review (
  id       INTEGER PRIMARY KEY AUTOINCREMENT,
  name     TEXT NOT NULL UNIQUE,
  scope    TEXT NOT NULL,    -- a JSON object
  reason   TEXT NOT NULL,
  due      TEXT NOT NULL,    -- YYYY-MM-DD
  opened   TEXT NOT NULL,    -- RFC 3339, UTC
  opener   INTEGER NOT NULL, -- the id in the access model
  revision INTEGER NOT NULL, -- that the items are of
  status   TEXT NOT NULL,    -- open or closed
  closed   TEXT NOT NULL,
  closer   INTEGER NOT NULL,
  signed   INTEGER NOT NULL, -- the revision with the signature; 0: it is not signed yet
  version  INTEGER NOT NULL  -- how often something was decided
) STRICT;
CREATE TABLE review_item (
  review   INTEGER NOT NULL REFERENCES review (id),
  n        INTEGER NOT NULL,
  subject  TEXT NOT NULL,    -- who has it
  via      TEXT NOT NULL,    -- the group or role that they are in; empty: by grants of their own
  content  TEXT NOT NULL,    -- a JSON object: what they have by it, and what is known of it
  changed  TEXT NOT NULL,    -- new, changed or same, beside the last review that had it
  reviewer TEXT NOT NULL,    -- who decides: a subject, or empty: who administers
  decision TEXT NOT NULL,    -- keep, revoke, until or empty
  until    TEXT NOT NULL,    -- YYYY-MM-DD
  word     TEXT NOT NULL,
  decided  TEXT NOT NULL,    -- RFC 3339, UTC
  decider  TEXT NOT NULL,
  version  INTEGER NOT NULL, -- of the review, when it was decided last
  PRIMARY KEY (review, n)
) STRICT, WITHOUT ROWID;

-- +goose Down
DROP TABLE review_item;
DROP TABLE review;
