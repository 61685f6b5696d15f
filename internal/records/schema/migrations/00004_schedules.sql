-- +goose Up
alter table settings
    add column tasks_at_once int not null default 0, -- 0 is the program's own
    add column keep_runs     text not null default '',
    add column version       bigint not null default 1; -- of the whole site: processes keep a copy while it stays

create table webhooks (
    name text primary key,
    spec jsonb not null
);

alter table policies
    add column paused_since timestamptz,
    add column paused_until timestamptz, -- null while paused_since is set: until somebody resumes it
    add column paused_why   text not null default '',
    add column paused_by    text not null default '';
create index policies_due on policies (next_due);
-- Tags were a list of pairs that all had to fit; they are an expression now.
update policies set spec = jsonb_set(spec, '{tags}', to_jsonb((select string_agg(key || '=' || value, ' and ' order by key) from jsonb_each_text(spec->'tags'))))
    where jsonb_typeof(spec->'tags') = 'object' and spec->'tags' <> '{}';
update policies set spec = spec - 'tags' where jsonb_typeof(spec->'tags') = 'object';

alter table runs
    add column who        text not null default '', -- the token's name, of a run that a person started
    add column waits      text not null default '', -- what a queued run waits for
    add column not_before timestamptz,
    add column cancel     text not null default ''; -- why it is to end, once somebody wants that
alter table runs drop constraint runs_kind_check;
alter table runs add constraint runs_kind_check check (kind in ('backup', 'proof', 'restore', 'check', 'sweep', 'fold', 'rehearsal'));
alter table runs drop constraint runs_cause_check;
alter table runs add constraint runs_cause_check check (cause in ('hand', 'schedule', 'upkeep', 'chain', 'boot'));
alter table runs drop constraint runs_state_check;
alter table runs add constraint runs_state_check check (state in ('queued', 'running', 'done', 'warned', 'failed', 'skipped', 'cancelled'));
create index runs_under_way on runs (made) where state in ('queued', 'running');

alter table tasks
    add column store text not null default '',
    add column why   text not null default '', -- why it was skipped, or what it waits for
    add column tries int not null default 1,
    add column steps jsonb not null default '[]';
alter table tasks drop constraint tasks_state_check;
alter table tasks add constraint tasks_state_check check (state in ('queued', 'running', 'done', 'warned', 'failed', 'skipped'));
create index tasks_under_way on tasks (state) where state = 'running';

-- Every boot of a host on which a service started, so that "at boot" fires once for it.
create table boots (
    boot text primary key,
    seen timestamptz not null default now()
);

alter table tokens add column scope text not null default 'all' check (scope in ('all', 'calendar'));

-- +goose Down
alter table tokens drop column scope;
drop table boots;
delete from tasks where state = 'skipped';
alter table tasks drop constraint tasks_state_check;
alter table tasks add constraint tasks_state_check check (state in ('queued', 'running', 'done', 'warned', 'failed'));
drop index tasks_under_way;
alter table tasks drop column store, drop column why, drop column tries, drop column steps;
delete from runs where state = 'cancelled' or cause in ('chain', 'boot') or kind = 'rehearsal';
alter table runs drop constraint runs_state_check, drop constraint runs_cause_check, drop constraint runs_kind_check;
alter table runs add constraint runs_kind_check check (kind in ('backup', 'proof', 'restore', 'check', 'sweep', 'fold'));
alter table runs add constraint runs_cause_check check (cause in ('hand', 'schedule', 'upkeep'));
alter table runs add constraint runs_state_check check (state in ('queued', 'running', 'done', 'warned', 'failed', 'skipped'));
drop index runs_under_way;
alter table runs drop column who, drop column waits, drop column not_before, drop column cancel;
drop index policies_due;
alter table policies drop column paused_since, drop column paused_until, drop column paused_why, drop column paused_by;
drop table webhooks;
alter table settings drop column tasks_at_once, drop column keep_runs, drop column version;
