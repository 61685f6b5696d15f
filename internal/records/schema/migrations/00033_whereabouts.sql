-- +goose Up
-- Of a store whose disk comes and goes: whether it is here, since when, and whether it was let go to be unplugged.
alter table stores add column whereabouts jsonb;

-- +goose Down
alter table stores drop column whereabouts;
