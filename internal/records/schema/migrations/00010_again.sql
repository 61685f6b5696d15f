-- +goose Up
-- A run that takes up one which was interrupted names it; it is taken up once. Who clears up after a dead process's task says so.
alter table runs add column again text not null default '';
alter table tasks add column cleaner bigint not null default 0;

-- +goose Down
alter table tasks drop column cleaner;
alter table runs drop column again;
