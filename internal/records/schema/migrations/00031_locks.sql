-- +goose Up
-- Until when nothing can take an image out of its store.
alter table images add column locked timestamptz;

-- +goose Down
alter table images drop column locked;
