-- +goose Up
-- What an image has of its machine's firmware, and what stands around machines on their hosts: as it was from one day to another.
alter table images add column firmware jsonb not null default '[]';
create index tasks_by_image on tasks (image) where image <> '';
create table around (
	hypervisor text not null,
	kind text not null,
	name text not null,
	definition text not null,
	since timestamptz not null default now(),
	seen timestamptz not null default now(),
	primary key (hypervisor, kind, name, since)
);
create table surveys (
	hypervisor text primary key,
	began timestamptz not null,
	ended timestamptz,
	error text not null default ''
);

-- +goose Down
drop index tasks_by_image;
drop table surveys;
drop table around;
alter table images drop column firmware;
