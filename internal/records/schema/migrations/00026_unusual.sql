-- +goose Up
-- What is unusual in an image stays with it until a person has looked. The figures by which an image's files are compared lie beside its list.
create table unusual (
    image text not null references images on delete cascade,
    kind  text not null,
    text  text not null,
    found timestamptz not null default now(),
    primary key (image, kind)
);
alter table images add column unusual int not null default 0, add column looked_by text not null default '', add column looked_note text not null default '', add column looked_at timestamptz;
alter table lists add column change jsonb;

-- +goose Down
alter table lists drop column change;
alter table images drop column unusual, drop column looked_by, drop column looked_note, drop column looked_at;
drop table unusual;
