-- +goose Up
-- Snapshots in place: moments of machines that their sources keep on the machines' own storage.
alter table runs drop constraint runs_kind_check;
alter table runs add constraint runs_kind_check check (kind in ('backup', 'proof', 'restore', 'check', 'sweep', 'fold', 'rehearsal', 'files', 'undo', 'trial', 'drill', 'copy', 'move', 'snapshot'));
create table snapshots (
    id text primary key,
    machine_id text not null,
    machine text not null,
    hypervisor text not null,
    policy text not null default '',
    run text not null default '',
    note text not null default '',
    ref text not null default '',
    taken timestamptz not null,
    consistency text not null default '',
    frozen bigint not null default 0,
    memory boolean not null default false,
    bytes bigint not null default -1,
    state text not null,
    pinned boolean not null default false,
    pin_note text not null default '',
    until timestamptz,
    gone timestamptz,
    why text not null default '',
    trouble text not null default '',
    troubled timestamptz,
    seen timestamptz,
    constraint snapshots_state_check check (state in ('making', 'kept', 'leaving', 'gone'))
);
create index snapshots_there on snapshots (machine_id, policy, taken) where state <> 'gone';
create index snapshots_leaving on snapshots (hypervisor) where state in ('making', 'leaving');
create index snapshots_policy on snapshots (policy) where state <> 'gone';

-- +goose Down
drop table snapshots;
delete from runs where kind = 'snapshot';
alter table runs drop constraint runs_kind_check;
alter table runs add constraint runs_kind_check check (kind in ('backup', 'proof', 'restore', 'check', 'sweep', 'fold', 'rehearsal', 'files', 'undo', 'trial', 'drill', 'copy', 'move'));
