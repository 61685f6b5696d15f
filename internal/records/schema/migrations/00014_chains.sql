-- +goose Up
-- Each process's lines are a chain; see core/deed for what hangs together how. Lines from before have no chain.
alter table trail
    add column chain  text not null default '',
    add column seq    bigint,
    add column reason text not null default '', -- why it was done, in the words of who did it
    add column of     bigint,                   -- the line that says that it began
    add column prev   bytea,
    add column digest bytea;
alter table trail drop constraint trail_result_check;
alter table trail add constraint trail_result_check check (result in ('begun', 'done', 'refused', 'failed'));
create unique index trail_by_chain on trail (chain, seq) where seq is not null;
create unique index trail_by_begin on trail (chain, of) where of is not null;

create table weaves (
    n      bigint primary key,
    at     timestamptz not null,
    heads  jsonb not null, -- by chain: how far it is, and the digest of that line
    prev   bytea not null,
    digest bytea not null
);
create trigger weaves_are_kept before update or delete or truncate on weaves execute function trail_is_kept();

-- +goose Down
drop table weaves;
alter table trail drop column chain, drop column seq, drop column reason, drop column of, drop column prev, drop column digest;
