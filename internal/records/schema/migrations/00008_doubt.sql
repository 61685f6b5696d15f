-- +goose Up
-- An image in which damage was found once is doubtful, since when and by which run; a second finding at another time makes it broken.
alter table images drop constraint images_state_check;
alter table images add constraint images_state_check check (state in ('writing', 'usable', 'doubtful', 'broken'));
alter table images add column doubted timestamptz;
alter table images add column doubted_by text not null default '';
alter table images add column looked timestamptz; -- a second reading was asked for
create index images_in_doubt on images (doubted) where state = 'doubtful';

-- +goose Down
update images set state = 'broken' where state = 'doubtful';
drop index images_in_doubt;
alter table images drop column looked;
alter table images drop column doubted_by;
alter table images drop column doubted;
alter table images drop constraint images_state_check;
alter table images add constraint images_state_check check (state in ('writing', 'usable', 'broken'));
