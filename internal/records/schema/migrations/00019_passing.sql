-- +goose Up
-- The address of the process that has an agent's line, where others ask for it.
alter table agents add column line_at text not null default '';

-- +goose Down
alter table agents drop column line_at;
