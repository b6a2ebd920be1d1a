-- +goose Up
-- By the stretch of a thousand records first, so that new records are added at the end of the index.
DROP INDEX record_actor;
CREATE INDEX record_actor ON record ((id - 1) / 1000, actor);

-- +goose Down
DROP INDEX record_actor;
CREATE INDEX record_actor ON record (actor, id);
