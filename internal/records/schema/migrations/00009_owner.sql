-- +goose Up
-- A lodge has a name that stores know it by. Images that were adopted are left alone by rotation until somebody says that they are this lodge's.
alter table settings add column lodge text not null default gen_random_uuid()::text;
alter table images add column adopted boolean not null default false;

-- +goose Down
alter table images drop column adopted;
alter table settings drop column lodge;
