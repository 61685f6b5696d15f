-- +goose Up
-- A store can be moved to another place. While the run that does it changes it over (held), others wait; before, if need be, none begins (drained).
alter table runs drop constraint runs_kind_check;
alter table runs add constraint runs_kind_check check (kind in ('backup', 'proof', 'restore', 'check', 'sweep', 'fold', 'rehearsal', 'files', 'undo', 'trial', 'drill', 'copy', 'move'));
alter table stores add column held text not null default '';
alter table stores add column drained text not null default '';

-- +goose Down
delete from runs where kind = 'move';
alter table runs drop constraint runs_kind_check;
alter table runs add constraint runs_kind_check check (kind in ('backup', 'proof', 'restore', 'check', 'sweep', 'fold', 'rehearsal', 'files', 'undo', 'trial', 'drill', 'copy'));
alter table stores drop column held;
alter table stores drop column drained;
