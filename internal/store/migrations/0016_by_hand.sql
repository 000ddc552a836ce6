-- +goose Up
-- An email that somebody sent by hand; its form sends it once, however often it
-- is pressed.
alter table touch add column once text;
create unique index touch_once on touch (once) where once is not null;

-- +goose Down
update touch set state = 'withdrawn' where once is not null and state in ('ready', 'claimed', 'stopped');
alter table touch drop column once;
