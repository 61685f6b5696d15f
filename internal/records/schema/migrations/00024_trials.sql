-- +goose Up
-- A trial starts a machine from its image. What it showed lies beside the lines of its evidence; and each trial under way has a place on its host.
alter table runs drop constraint runs_kind_check;
alter table runs add constraint runs_kind_check check (kind in ('backup', 'proof', 'restore', 'check', 'sweep', 'fold', 'rehearsal', 'files', 'undo', 'trial'));
alter table proofs add column report jsonb;
create table trials (
    run    text primary key references runs on delete cascade,
    host   text not null,
    guests int not null,
    memory bigint not null
);
create table groups (
    name text primary key,
    spec jsonb not null
);
create table key_proofs (
    id     bigint generated always as identity primary key,
    store  text not null,
    at     timestamptz not null,
    who    text not null,
    opened boolean not null
);

-- +goose Down
drop table key_proofs;
drop table groups;
drop table trials;
alter table proofs drop column report;
delete from runs where kind = 'trial';
alter table runs drop constraint runs_kind_check;
alter table runs add constraint runs_kind_check check (kind in ('backup', 'proof', 'restore', 'check', 'sweep', 'fold', 'rehearsal', 'files', 'undo'));
