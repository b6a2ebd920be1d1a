-- +goose Up
-- Which record says where the chain begins now: that record is in what is left of the chain. Of a pruning of an earlier
-- version there is none until the service starts.
ALTER TABLE pruned ADD COLUMN said INTEGER NOT NULL DEFAULT 0;

-- +goose Down
ALTER TABLE pruned DROP COLUMN said;
