-- +goose Up
-- Whose email address is looked for, and what came of it.
create table address_ask (
    id          bigint generated always as identity primary key,
    person_id   bigint not null references person on delete cascade,
    use         text not null,       -- core/act.Use
    asked_at    timestamptz not null,
    claimed_till timestamptz,
    done_at     timestamptz,
    outcome     text not null default ''
);
create unique index address_ask_open on address_ask (person_id) where done_at is null;
create index address_ask_next on address_ask (id) where done_at is null;

-- The last call that the phone made for an item of work.
create table phone_call (
    touch_id bigint primary key references touch on delete cascade,
    call_id  text not null,
    user_id  bigint not null references app_user,
    at       timestamptz not null,
    ended    boolean not null default false,
    outcome  text not null default '',
    seconds  int not null default 0
);
-- For how long somebody talked.
alter table work add column seconds int;

-- +goose Down
alter table work drop column seconds;
drop table phone_call;
drop table address_ask;
