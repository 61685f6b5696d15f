-- +goose Up
-- A snapshot in place may be a copy in another region of its source; those of a region rotate by themselves.
alter table snapshots add column region text not null default '';
alter table snapshots add column copy_of text not null default '';

-- +goose Down
delete from snapshots where region <> '';
alter table snapshots drop column region;
alter table snapshots drop column copy_of;
