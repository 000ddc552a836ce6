-- +goose Up
-- Somebody who no longer works here does not sign in; what they did keeps their name.
alter table app_user add column left_at timestamptz;

-- Colleagues who were asked to join. The address in the letter is a secret: here stands its hash.
create table invitation (
    id      bigint generated always as identity primary key,
    email   text not null,
    name    text not null,
    role    text not null check (role in ('marketer', 'rep', 'lead', 'admin')),
    token   bytea not null unique,
    by_id   bigint references app_user,
    made_at timestamptz not null,
    until   timestamptz not null,
    used_at timestamptz
);
create unique index invitation_email on invitation (email) where used_at is null;

-- The mail server by which everybody's emails go out who has none of their own; the password is sealed.
create table mail_server (
    everybody boolean primary key default true check (everybody),
    server    text not null,
    login     text not null default '',
    secret    bytea
);

-- +goose Down
drop table mail_server, invitation;
alter table app_user drop column left_at;
