-- +goose Up
-- A machine is told by its identity: what its source calls it by (a UUID), not its name. Those of which no UUID is known get one of
-- their name.
alter table machines
    add column id      text,
    add column label   text not null default '', -- its name, or more of it where that is ambiguous
    add column also_on text not null default '', -- another source that has a machine of the same UUID
    add column notice  text not null default '', -- what a person should look at
    add column retired timestamptz,              -- when it was taken down on purpose
    add column keep    text not null default ''; -- rotation phrase for the images of a retired machine
update machines m set id = case when uuid <> '' and not exists (select from machines o where o.uuid = m.uuid and o.name < m.name) then uuid else 'named-' || name end,
    label = name;
alter table machines drop constraint machines_pkey;
alter table machines alter column id set not null;
alter table machines add primary key (id);
create index machines_by_label on machines (label);
create index machines_by_name on machines (name);
create index machines_by_uuid on machines (uuid) where uuid <> '';
create index machines_by_source on machines (hypervisor, id);

insert into machines (id, name, hypervisor, uuid, state, seen, label)
    select distinct on (i.machine) 'named-' || i.machine, i.machine, '', '', 'gone', i.taken, i.machine from images i
    where not exists (select from machines m where m.name = i.machine) order by i.machine, i.taken desc;
alter table images add column machine_id text not null default '';
update images i set machine_id = m.id from machines m where m.name = i.machine;

alter table tasks
    add column machine_id text not null default '',
    add column guest      text not null default ''; -- the machine's name on its source
update tasks t set guest = t.machine, machine_id = coalesce((select id from machines m where m.name = t.machine), '');

-- An image bears its proof status, so that lists need not look for it.
alter table images
    add column proven       text not null default '', -- best level of a passed proof
    add column proven_at    timestamptz,
    add column proof_failed boolean not null default false; -- the newest proof failed
update images i set proven = coalesce(best.level, ''), proven_at = best.ended, proof_failed = coalesce(not last.passed, false) from images o
    left join lateral (select level, ended from proofs p where p.image = o.id and p.passed
        order by array_position(array['restore', 'boot', 'mount', 'read'], level), id desc limit 1) best on true
    left join lateral (select passed from proofs p where p.image = o.id order by id desc limit 1) last on true
    where o.id = i.id and exists (select from proofs p where p.image = i.id);

-- Lists are paged in these orders.
drop index images_by_set;
create index images_by_set on images (policy, store, machine_id, taken) where gone is null;
create index images_by_time on images (taken, id);
create index images_gone_by_time on images (taken, id) where gone is not null;
create index images_there on images (store) include (state, size) where gone is null;
create index images_by_machine on images (machine_id, taken, id);
create index images_by_store on images (store, taken, id);
create index images_by_policy on images (policy, taken, id);
drop index runs_by_time;
create index runs_by_time on runs (made, id);
create index runs_by_policy on runs (policy, made, id);
create index runs_ended on runs (ended) where ended is not null;
create index tasks_unclean on tasks (id) where touched;
alter table settings
    add column keep_images text not null default ''; -- how long the records of images are kept that left their stores

-- +goose Down
alter table settings drop column keep_images;
create index runs_by_time_before on runs (made desc);
drop index runs_by_time;
alter index runs_by_time_before rename to runs_by_time;
drop index tasks_unclean, runs_ended, runs_by_policy, images_by_policy, images_by_store, images_by_machine, images_there, images_gone_by_time, images_by_time, images_by_set;
create index images_by_set on images (policy, machine, store, taken);
alter table tasks drop column machine_id, drop column guest;
alter table images drop column machine_id, drop column proven, drop column proven_at, drop column proof_failed;
delete from machines m where exists (select from machines o where o.name = m.name and o.id < m.id);
alter table machines drop constraint machines_pkey;
alter table machines add primary key (name);
drop index machines_by_source, machines_by_uuid, machines_by_name, machines_by_label;
alter table machines drop column id, drop column label, drop column also_on, drop column notice, drop column retired, drop column keep;
