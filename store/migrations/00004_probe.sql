-- +goose Up
CREATE TABLE probe (id INTEGER PRIMARY KEY, content BLOB NOT NULL) STRICT;

-- +goose Down
DROP TABLE probe;
