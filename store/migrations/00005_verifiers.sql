-- +goose Up
-- What SCRAM-SHA-256 is verified by (RFC 5802, written as RFC 5803 has it), from the next sign-in on.
ALTER TABLE password ADD COLUMN scram TEXT NOT NULL DEFAULT '';
ALTER TABLE token ADD COLUMN scram TEXT NOT NULL DEFAULT '';
CREATE TABLE secret (name TEXT PRIMARY KEY, value BLOB NOT NULL) STRICT;

-- +goose Down
DROP TABLE secret;
ALTER TABLE token DROP COLUMN scram;
ALTER TABLE password DROP COLUMN scram;
