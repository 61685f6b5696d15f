-- +goose Up
-- Appliances take back what they exported of themselves.
alter table runs drop constraint runs_kind_check;
alter table runs add constraint runs_kind_check check (kind in ('backup', 'proof', 'restore', 'check', 'sweep', 'fold', 'rehearsal', 'files', 'undo', 'trial', 'drill', 'copy', 'move', 'snapshot', 'handback'));

-- +goose Down
delete from runs where kind = 'handback';
alter table runs drop constraint runs_kind_check;
alter table runs add constraint runs_kind_check check (kind in ('backup', 'proof', 'restore', 'check', 'sweep', 'fold', 'rehearsal', 'files', 'undo', 'trial', 'drill', 'copy', 'move', 'snapshot'));
