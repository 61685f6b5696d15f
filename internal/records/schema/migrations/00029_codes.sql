-- +goose Up
-- A token may be made as a code that a person types once, and that becomes the token then.
alter table tokens drop constraint tokens_scope_check, add constraint tokens_scope_check check (scope in ('all', 'calendar', 'once'));

-- +goose Down
delete from tokens where scope = 'once';
alter table tokens drop constraint tokens_scope_check, add constraint tokens_scope_check check (scope in ('all', 'calendar'));
