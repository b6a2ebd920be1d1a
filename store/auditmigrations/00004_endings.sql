-- +goose Up
ALTER TABLE record ADD COLUMN client TEXT NOT NULL DEFAULT ''; -- the name of the program that asked
ALTER TABLE record ADD COLUMN open INTEGER NOT NULL DEFAULT 0; -- 1: another record says how it ended
ALTER TABLE record ADD COLUMN ends INTEGER NOT NULL DEFAULT 0; -- the open record whose end this is
CREATE UNIQUE INDEX record_ends ON record (ends) WHERE ends > 0;

-- +goose Down
DROP INDEX record_ends;
ALTER TABLE record DROP COLUMN ends;
ALTER TABLE record DROP COLUMN open;
ALTER TABLE record DROP COLUMN client;
