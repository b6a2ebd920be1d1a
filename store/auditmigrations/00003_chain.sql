-- +goose Up
-- Each record carries the hash of the one before. Those of earlier versions get
-- theirs when the file is opened.
ALTER TABLE record ADD COLUMN previous TEXT NOT NULL DEFAULT '';
ALTER TABLE record ADD COLUMN hash TEXT NOT NULL DEFAULT '';
CREATE TABLE probe (id INTEGER PRIMARY KEY, content BLOB NOT NULL) STRICT;

-- +goose Down
DROP TABLE probe;
ALTER TABLE record DROP COLUMN hash;
ALTER TABLE record DROP COLUMN previous;
