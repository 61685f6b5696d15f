-- +goose Up
-- Lists of images' files, sealed by the vault's key: of each machine the one that was listed last as it is, each older one as what differs from that
-- which was listed after it.
create table lists (
	id      bigint generated always as identity primary key,
	machine text not null,
	image   text not null unique,
	entries bigint not null,
	made    timestamptz not null default now(),
	body    bytea not null
);
alter table lists alter column body set storage external;
create index lists_machine on lists (machine, id desc);

-- +goose Down
drop table lists;
