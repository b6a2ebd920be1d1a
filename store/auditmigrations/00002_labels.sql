-- +goose Up
ALTER TABLE record ADD COLUMN labels TEXT NOT NULL DEFAULT '[]'; -- a JSON array of the labels that the objects bear

-- +goose Down
ALTER TABLE record DROP COLUMN labels;
