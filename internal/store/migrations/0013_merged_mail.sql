-- +goose Up
-- A one-off email that went to two records which are one by now was still two
-- emails: the one of the record that went is marked, and counts no second time
-- as to whom the email goes.
alter table touch add column merged boolean not null default false;
drop index touch_mailing;
create unique index touch_mailing on touch (mailing_id, person_id) where mailing_id is not null and not merged;

-- +goose Down
delete from incoming where touch_id in (select id from touch where merged);
delete from touch where merged;
drop index touch_mailing;
create unique index touch_mailing on touch (mailing_id, person_id) where mailing_id is not null;
alter table touch drop column merged;
