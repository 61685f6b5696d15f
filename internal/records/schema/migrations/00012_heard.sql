-- +goose Up
-- When a source was last heard, and what it told of itself then.
create table sources (
	name text primary key,
	asked timestamptz not null,
	heard timestamptz,
	error text not null default '',
	machines integer not null default 0,
	version text not null default '',
	host text not null default '',
	pool text not null default '',
	free bigint not null default -1,
	total bigint not null default -1
);

-- +goose Down
drop table sources;
