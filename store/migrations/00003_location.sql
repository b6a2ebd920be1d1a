-- +goose Up
-- A folder of SQLite files, below the data folder when not absolute, or the URL of
-- a PostgreSQL database.
ALTER TABLE source RENAME COLUMN folder TO location;

-- +goose Down
ALTER TABLE source RENAME COLUMN location TO folder;
