-- +goose Up
-- A drill brings machines back as if they were lost, and measures it. What it showed outlives its runs and its images, with the pictures.
alter table runs drop constraint runs_kind_check;
alter table runs add constraint runs_kind_check check (kind in ('backup', 'proof', 'restore', 'check', 'sweep', 'fold', 'rehearsal', 'files', 'undo', 'trial', 'drill'));
create table drills (
    run     text primary key,
    who     text not null,
    note    text not null,
    way     text not null,
    whole   boolean not null,
    program text not null,
    began   timestamptz not null,
    ended   timestamptz
);
create table drill_machines (
    run        text not null references drills on delete cascade,
    place      int not null,
    machine_id text not null,
    report     jsonb not null,
    primary key (run, place)
);
create index drill_machines_machine on drill_machines (machine_id, run);
create table drill_pictures (
    run  text not null references drills on delete cascade,
    name text not null,
    body bytea not null,
    primary key (run, name)
);

-- +goose Down
drop table drill_pictures;
drop table drill_machines;
drop table drills;
delete from runs where kind = 'drill';
alter table runs drop constraint runs_kind_check;
alter table runs add constraint runs_kind_check check (kind in ('backup', 'proof', 'restore', 'check', 'sweep', 'fold', 'rehearsal', 'files', 'undo', 'trial'));
