-- +goose Up
-- Images of files are looked for again and again that have no list yet; and how fast restores went, before the next one.
create index images_of_files on images (taken desc) where files is not null and gone is null;
create index runs_back on runs (made desc) where kind in ('restore', 'files');

-- +goose Down
drop index runs_back;
drop index images_of_files;
