-- +goose Up
-- An email that somebody sent by hand; its form sends it once, however often it
-- is pressed.
alter table touch add column once text;
create unique index touch_once on touch (once) where once is not null;

-- Emails that belong to no sequence and no mailing are looked for before every
-- batch, however many others wait.
create index touch_single on touch (ready_at) where state = 'ready' and enrolment_id is null and mailing_id is null;

-- +goose Down
update touch set state = 'withdrawn' where once is not null and state in ('ready', 'claimed', 'stopped');
drop index touch_single;
alter table touch drop column once;
