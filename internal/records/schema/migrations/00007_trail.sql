-- +goose Up
-- What was done, by whom. Lines are only ever added: who changes one, does it past the lodge.
create table trail (
    id      bigint generated always as identity primary key,
    at      timestamptz not null default now(),
    who     text not null,
    address text not null, -- where the call came from
    verb    text not null, -- the operation
    target  text not null, -- the path of what it was done to
    result  text not null check (result in ('done', 'refused', 'failed')),
    why     text not null default ''
);
create index trail_by_time on trail (at, id);
-- +goose StatementBegin
create function trail_is_kept() returns trigger language plpgsql as $$ begin raise exception 'the trail is only added to'; end $$;
-- +goose StatementEnd
create trigger trail_is_kept before update or delete or truncate on trail execute function trail_is_kept();

-- +goose Down
drop table trail;
drop function trail_is_kept;
