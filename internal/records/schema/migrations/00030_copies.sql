-- +goose Up
-- Copy rules run as policies do, and their names can't be a policy's; so they lie beside them.
alter table policies add column kind text not null default 'policy' check (kind in ('policy', 'copy'));
alter table runs drop constraint runs_kind_check;
alter table runs add constraint runs_kind_check check (kind in ('backup', 'proof', 'restore', 'check', 'sweep', 'fold', 'rehearsal', 'files', 'undo', 'trial', 'drill', 'copy'));
drop index runs_one_at_a_time;
create unique index runs_one_at_a_time on runs (policy) where kind in ('backup', 'copy') and state in ('queued', 'running');
-- The image of which one is a copy, where it is one, and the rule that made it.
alter table images add column copy_of text not null default '', add column copied_by text not null default '';
create index images_by_origin on images (copy_of) where copy_of <> '';
create index images_by_rule on images (copied_by, store, machine_id, taken) where copied_by <> '' and gone is null;

-- +goose Down
drop index images_by_rule, images_by_origin;
alter table images drop column copy_of, drop column copied_by;
drop index runs_one_at_a_time;
delete from runs where kind = 'copy';
create unique index runs_one_at_a_time on runs (policy) where kind = 'backup' and state in ('queued', 'running');
alter table runs drop constraint runs_kind_check;
alter table runs add constraint runs_kind_check check (kind in ('backup', 'proof', 'restore', 'check', 'sweep', 'fold', 'rehearsal', 'files', 'undo', 'trial', 'drill'));
delete from policies where kind = 'copy';
alter table policies drop column kind;
