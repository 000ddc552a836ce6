-- +goose Up
-- When somebody works, and how much of each kind on a day (core/desk.Worker).
alter table app_user add column work jsonb not null default '{}';

-- A page where people pick a time in somebody's free hours.
create table booking_page (
    user_id  bigint primary key references app_user,
    slug     text not null,
    shown    boolean not null default false,
    plan     jsonb not null,         -- core/booking.Plan
    feed     text not null default '' -- the secret of their calendar's address; empty: there is none
);
create unique index booking_page_slug on booking_page (lower(slug));
create unique index booking_page_feed on booking_page (feed) where feed <> '';

create table booking (
    id        bigint generated always as identity primary key,
    user_id   bigint not null references app_user,
    person_id bigint not null references person,
    starts_at timestamptz not null,
    ends_at   timestamptz not null,
    state     text not null check (state in ('asked', 'booked', 'cancelled', 'held', 'missed')),
    asked_at  timestamptz not null,
    keep_till timestamptz,             -- one that is asked for keeps its time until then
    zone      text not null default '', -- in which they picked it
    note      text not null default '',
    changes   int not null default 0,   -- SEQUENCE of RFC 5545
    done_at   timestamptz,
    touch_id  bigint references touch   -- in whose letter the link stood
);
create index booking_user on booking (user_id, starts_at);
create index booking_person on booking (person_id);
-- What follows a meeting is to be said.
create index booking_open on booking (ends_at) where state = 'booked';

-- Busy times of somebody's own calendar, read from a file or an address.
create table busy_calendar (
    id      bigint generated always as identity primary key,
    user_id bigint not null references app_user,
    name    text not null,
    address text not null default '', -- empty: it was uploaded
    read_at timestamptz,
    tried_at timestamptz,
    trouble text not null default ''
);
create index busy_calendar_user on busy_calendar (user_id);
create table busy_time (
    calendar_id bigint not null references busy_calendar on delete cascade,
    starts_at   timestamptz not null,
    ends_at     timestamptz not null
);
create index busy_time_calendar on busy_time (calendar_id, starts_at);

-- An invitation, a move or a cancellation that goes out with a letter (RFC 5546).
alter table letter add column invite bytea;

-- +goose Down
alter table letter drop column invite;
drop table busy_time;
drop table busy_calendar;
drop table booking;
drop table booking_page;
alter table app_user drop column work;
