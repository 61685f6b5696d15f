-- +goose Up
-- Images of files are looked for again and again that have no list yet.
create index images_of_files on images (taken desc) where files is not null and gone is null;

-- +goose Down
drop index images_of_files;
