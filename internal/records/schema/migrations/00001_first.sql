-- +goose Up
create table settings (
    one  boolean primary key default true check (one),
    zone text not null default 'UTC'
);
insert into settings default values;

create table hypervisors (
    name text primary key,
    spec jsonb not null
);

create table stores (
    name     text primary key,
    spec     jsonb not null,
    store_id text not null default '' -- what store.json says, so that a disk that is not mounted is noticed
);

create table policies (
    name     text primary key,
    spec     jsonb not null,
    next_due timestamptz,
    notice   text not null default '' -- what a person must look at, such as a rotation that the guard stopped
);

create table machines (
    name       text primary key,
    hypervisor text not null,
    uuid       text not null,
    state      text not null,
    tags       jsonb not null default '{}',
    disks      jsonb not null default '[]',
    seen       timestamptz not null
);

create table runs (
    id      text primary key,
    kind    text not null check (kind in ('backup', 'proof', 'restore')),
    policy  text not null default '',
    cause   text not null check (cause in ('hand', 'schedule')),
    request jsonb not null default '{}', -- of a proof or a restore
    state   text not null check (state in ('queued', 'running', 'done', 'warned', 'failed', 'skipped')),
    owner   bigint not null default 0, -- the process that carries it out; its advisory lock says whether it lives
    due     timestamptz,
    made    timestamptz not null default now(),
    started timestamptz,
    ended   timestamptz,
    error   text not null default ''
);
-- Two runs of one policy never overlap, and a due moment has one run, however many processes look.
create unique index runs_one_at_a_time on runs (policy) where kind = 'backup' and state in ('queued', 'running');
create unique index runs_one_a_moment on runs (policy, due) where due is not null;
create index runs_by_time on runs (made desc);

create table tasks (
    id         bigint generated always as identity primary key,
    run        text not null references runs on delete cascade,
    machine    text not null,
    hypervisor text not null default '',
    state      text not null check (state in ('queued', 'running', 'done', 'warned', 'failed')),
    step       text not null default '',
    image      text not null default '', -- the one that it makes or reads
    touched    boolean not null default false, -- a capture may exist on the hypervisor
    woken      boolean not null default false, -- and the guest was started paused for it
    started    timestamptz,
    ended      timestamptz,
    done       bigint not null default 0,
    total      bigint not null default 0,
    fresh      bigint not null default 0,
    stored     bigint not null default 0,
    frozen     bigint not null default 0, -- nanoseconds
    warnings   jsonb not null default '[]',
    error      text not null default ''
);
create index tasks_by_run on tasks (run);

create table log (
    id      bigint generated always as identity primary key,
    run     text not null references runs on delete cascade,
    at      timestamptz not null default now(),
    machine text not null default '',
    text    text not null
);
create index log_by_run on log (run, id);

create table images (
    id          text primary key,
    machine     text not null,
    policy      text not null,
    store       text not null,
    run         text not null default '',
    taken       timestamptz not null,
    state       text not null check (state in ('writing', 'usable', 'broken')),
    scope       text not null,
    capture     text not null,
    base        text not null default '',
    consistency text not null default '',
    frozen      bigint not null default 0, -- nanoseconds
    pinned      boolean not null default false,
    disks       jsonb not null default '[]',
    size        bigint not null default 0, -- bytes: the disks' length, what was read, what was new, what it took
    read        bigint not null default 0,
    fresh       bigint not null default 0,
    stored      bigint not null default 0,
    gone        timestamptz, -- when rotation dropped it
    gone_why    text not null default '',
    in_store    boolean not null default true -- false once the manifest of a gone image has left the store
);
create index images_by_set on images (policy, machine, store, taken);

create table proofs (
    id       bigint generated always as identity primary key,
    image    text not null,
    run      text not null default '',
    level    text not null check (level in ('read', 'mount', 'boot', 'restore')),
    passed   boolean not null,
    began    timestamptz not null,
    ended    timestamptz not null,
    program  text not null,
    evidence jsonb not null default '[]',
    error    text not null default ''
);
create index proofs_by_image on proofs (image, id);

create table tokens (
    digest bytea primary key, -- SHA-256 of the token, which itself is kept nowhere
    name   text not null unique,
    made   timestamptz not null default now()
);

-- +goose Down
drop table tokens, proofs, images, log, tasks, runs, machines, policies, stores, hypervisors, settings;
