-- +goose Up
-- Before a store that is moved changes over, no run begins that would use it (drained). For a while 00034 made that column: it may be there.
alter table stores add column if not exists drained text not null default '';
-- Nobody asks when a source was asked last for a snapshot.
alter table snapshots drop column seen;

-- +goose Down
alter table snapshots add column seen timestamptz;
alter table stores drop column drained;
