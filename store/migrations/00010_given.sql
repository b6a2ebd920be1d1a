-- +goose Up
-- A password that an administrator has set: its owner chooses another before it counts.
ALTER TABLE password ADD COLUMN given INTEGER NOT NULL DEFAULT 0;

-- +goose Down
ALTER TABLE password DROP COLUMN given;
