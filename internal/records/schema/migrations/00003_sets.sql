-- +goose Up
alter table images
    add column since       text not null default '', -- the image since which only changes were read
    add column capture_why text not null default '', -- why it is full, where it is
    add column note        text not null default '',
    add column apart       boolean not null default false, -- made by hand, and no part of the scheduled ones' set
    add column took        bigint not null default 0, -- nanoseconds
    add column leaving     boolean not null default false; -- gone, and on its way out of the store: it can't be brought back
create index images_gone on images (store, gone) where gone is not null and in_store;
create index images_by_base on images (base) where base <> '';
alter table runs add column note text not null default '';
alter table runs drop constraint runs_kind_check;
alter table runs add constraint runs_kind_check check (kind in ('backup', 'proof', 'restore', 'check', 'sweep', 'fold'));

-- +goose Down
alter table runs drop column note;
drop index images_by_base, images_gone;
alter table images drop column since, drop column capture_why, drop column note, drop column apart, drop column took, drop column leaving;
