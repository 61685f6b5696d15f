-- +goose Up
-- An image may hold files in place of disks: how many, of what parts, what rules left out.
alter table images add column files jsonb;
-- What a run could not read of a machine's files, or what changed while it was read. A path is the bytes of its name.
create table unread (
    run     text not null references runs (id) on delete cascade,
    machine text not null,
    n       integer not null,
    path    bytea not null,
    why     text not null,
    changed boolean not null,
    primary key (run, machine, n)
);

-- +goose Down
drop table unread;
alter table images drop column files;
