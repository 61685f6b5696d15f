-- +goose Up
alter table runs drop constraint runs_kind_check;
alter table runs add constraint runs_kind_check check (kind in ('backup', 'proof', 'restore', 'check', 'sweep'));
alter table runs drop constraint runs_cause_check;
alter table runs add constraint runs_cause_check check (cause in ('hand', 'schedule', 'upkeep'));
alter table runs add column result jsonb; -- what a check or a sweep found

create table secrets (
    name   text primary key, -- such as store/north-pier/access
    sealed bytea not null    -- an age file that only the lodge's own key file opens
);

alter table stores add column swept timestamptz default now(); -- when the last sweep began
alter table images add column pin_note text not null default '';

-- +goose Down
alter table images drop column pin_note;
alter table stores drop column swept;
drop table secrets;
alter table runs drop column result;
