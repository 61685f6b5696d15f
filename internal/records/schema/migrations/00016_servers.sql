-- +goose Up
-- A server is a machine from the moment it is enrolled, whatever is installed on it later; source is the one that its agent belongs to.
alter table agents add column machine uuid not null default gen_random_uuid();
alter table agents add column source text not null default 'servers';
alter table agents add column about jsonb;           -- what it said of itself last
alter table agents add column line_by bigint;        -- the number of the process that has its line

-- +goose Down
alter table agents drop column machine, drop column source, drop column about, drop column line_by;
