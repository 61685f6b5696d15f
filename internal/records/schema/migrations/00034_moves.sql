-- +goose Up
-- A store can be moved to another place. While the run that does it changes it over, others wait.
alter table runs drop constraint runs_kind_check;
alter table runs add constraint runs_kind_check check (kind in ('backup', 'proof', 'restore', 'check', 'sweep', 'fold', 'rehearsal', 'files', 'undo', 'trial', 'drill', 'copy', 'move'));
alter table stores add column held text not null default '';

-- +goose Down
delete from runs where kind = 'move';
alter table runs drop constraint runs_kind_check;
alter table runs add constraint runs_kind_check check (kind in ('backup', 'proof', 'restore', 'check', 'sweep', 'fold', 'rehearsal', 'files', 'undo', 'trial', 'drill', 'copy'));
alter table stores drop column held;
