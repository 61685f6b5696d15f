-- +goose Up
-- Tokens are made by somebody, for a while, for roles; sessions are browsers that signed in with one.
alter table tokens
    add column id text,
    add column grants jsonb not null default '[]',
    add column made_by text not null default '',
    add column expires timestamptz,
    add column used timestamptz,
    add column used_from text not null default '',
    add column revoked timestamptz;
-- What was made before could do everything, for ever; it may so for as long as a new one, so that there is time to make others.
update tokens set id = substr(encode(digest, 'hex'), 1, 10),
    grants = case scope when 'all' then '[{"role": "administrator"}]'::jsonb else '[]'::jsonb end,
    expires = now() + case scope when 'all' then interval '90 days' else interval '400 days' end;
alter table tokens alter column id set not null, alter column expires set not null;
create unique index tokens_by_id on tokens (id);

create table sessions (
    id      text primary key,
    digest  bytea not null unique, -- SHA-256 of the cookie, which itself is kept nowhere
    token   text not null references tokens (id) on delete cascade,
    made    timestamptz not null default now(),
    used    timestamptz not null default now(),
    expires timestamptz not null,
    address text not null,
    browser text not null,
    ended   timestamptz
);
create index sessions_by_token on sessions (token);

-- +goose Down
drop table sessions;
alter table tokens drop column id, drop column grants, drop column made_by, drop column expires, drop column used, drop column used_from, drop column revoked;
