-- +goose Up
-- Applications that have yet to be told to go on are cleared up after by themselves, where nothing else of the capture is left.
update tasks set owed = '{}' where not touched;
drop index tasks_unclean;
create index tasks_unclean on tasks (id) where touched or owed <> '{}';

-- +goose Down
drop index tasks_unclean;
create index tasks_unclean on tasks (id) where touched;
update tasks set touched = true where owed <> '{}';
