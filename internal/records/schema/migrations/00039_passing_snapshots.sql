-- +goose Up
-- Snapshots in place that are taken before something is done to a machine go by themselves when their time is over.
alter table snapshots add column passing boolean not null default false;

-- +goose Down
alter table snapshots drop column passing;
