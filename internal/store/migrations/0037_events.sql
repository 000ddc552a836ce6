-- +goose Up
-- What people are invited to: a workshop, a visit, a talk.
create table event (
    id           bigint generated always as identity primary key,
    name         text not null,
    note         text not null default '',
    starts_at    timestamptz not null,
    ends_at      timestamptz not null check (ends_at > starts_at),
    zone         text not null,              -- IANA name: where its day and time are read
    place        text not null default '',
    link         text not null default '',   -- where one joins
    page_id      bigint references page,     -- whose form registers
    seats        int not null default 0,     -- 0: as many as come
    revision     int not null default 0,     -- counts moves and the cancelling (RFC 5545, SEQUENCE)
    moved_at     timestamptz,
    cancelled_at timestamptz,
    made_at      timestamptz not null,
    made_by      bigint references app_user
);
create index event_page on event (page_id) where page_id is not null;

-- How people stand to events: the newest line is current, those before tell how it came.
create table attendance (
    id        bigint generated always as identity primary key,
    event_id  bigint not null references event on delete cascade,
    person_id bigint not null references person on delete cascade,
    state     text not null,
    at        timestamptz not null,
    how       text not null,                 -- by form, by a link, by hand …
    user_id   bigint references app_user,
    current   boolean not null default true
);
create unique index attendance_current on attendance (event_id, person_id) where current;
create index attendance_person on attendance (person_id);
create index attendance_event on attendance (event_id, state, id) where current;

create trigger tell_audiences_of_new after insert
    on attendance referencing new table as changed for each statement execute function tell_audiences('event');
create trigger tell_audiences after update
    on attendance referencing new table as changed for each statement execute function tell_audiences('event');
create trigger tell_scores_of_new after insert on attendance
    referencing new table as changed for each statement execute function tell_scores('event');

alter table signal add column event_id bigint;
create index signal_event on signal (event_id, kind) where event_id is not null;

-- Word to those who registered, that an event is moved or cancelled: once for each revision.
alter table touch add column event_id bigint references event;
alter table touch add column event_word int;
create unique index touch_event on touch (event_id, event_word, person_id) where event_id is not null;

-- +goose Down
delete from touch where event_id is not null;
alter table touch drop column event_word, drop column event_id;
delete from signal where event_id is not null;
alter table signal drop column event_id;
drop table attendance;
drop table event;
