-- +goose Up
-- The headline asks for the few images that wait for a person, among all.
create index images_unusual on images (machine_id) where unusual > 0;

-- +goose Down
drop index images_unusual;
