-- +goose Up
-- When the locks of a store's objects were renewed last, and for how long: renewed, for (nanoseconds), store (its ID then).
alter table stores add column locks jsonb;

-- +goose Down
alter table stores drop column locks;
