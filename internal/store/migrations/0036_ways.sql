-- +goose Up
-- Somebody who is held where they are on a sequence, by hand: nobody walks them on, and what was
-- to go out to them for it waits, until they are let go on.
alter table enrolment add column held boolean not null default false;

-- +goose Down
update enrolment set look = now() where held;
alter table enrolment drop column held;
