-- +goose Up
-- What a line of a run's log is was told by how it began.
alter table log add column kind text not null default 'note' check (kind in ('note', 'warning', 'failure', 'evidence'));
update log set kind = 'warning', text = substr(text, 10) where text like 'warning: %';
update log set kind = 'failure', text = substr(text, 9) where text like 'failed: %';
update log set kind = 'evidence', text = substr(text, 11) where text like 'evidence: %';
-- Why somebody cancelled a run no longer begins with that word.
update runs set cancel = substr(cancel, 11) where cancel like 'cancelled %';

-- +goose Down
update runs set cancel = 'cancelled ' || cancel where cancel <> '';
update log set text = case kind when 'warning' then 'warning: ' when 'failure' then 'failed: ' when 'evidence' then 'evidence: ' else '' end || text;
alter table log drop column kind;
