-- +goose Up
-- Days on which a country does not work.
create table holiday (
    country text not null,
    day     date not null,
    name    text not null default '',
    primary key (country, day)
);

-- Who works together: what is for a team is for any of its members to take.
create table team (
    id         bigint generated always as identity primary key,
    name       text not null,
    created_at timestamptz not null,
    removed_at timestamptz
);
create unique index team_name on team (lower(name)) where removed_at is null;
alter table app_user add column team_id bigint references team;
alter table work add column team_id bigint references team;
alter table task add column team_id bigint references team;

-- What was changed in the settings, by whom, and how it was before.
create table setting_change (
    id      bigint generated always as identity primary key,
    kind    text not null,           -- of what it is the change
    key     text not null default '',
    was     jsonb not null,
    became  jsonb not null,
    words   text not null,
    at      timestamptz not null,
    user_id bigint references app_user,
    undone  boolean not null default false
);
create index setting_change_key on setting_change (kind, key, id);

-- +goose Down
drop table setting_change;
alter table task drop column team_id;
alter table work drop column team_id;
alter table app_user drop column team_id;
drop table team;
drop table holiday;
