-- +goose Up
-- What a drill came to stands beside it, so that a list of drills does not read what became of each machine. Drills of before have none.
alter table drills add column parties text not null default '', add column sum jsonb;

-- +goose Down
alter table drills drop column parties, drop column sum;
