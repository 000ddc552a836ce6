-- +goose Up
-- What a rep said of an item of work that is still to be done: to come up later, with a note
-- for whom it was passed on to, and for how long somebody has taken it from a pool. The kinds
-- are those of store.WorkKind.
create table desk_item (
    kind        smallint not null,
    item_id     bigint not null,
    later_at    timestamptz,
    back        boolean not null default false, -- they asked to be called then
    note        text not null default '',
    passed_by   bigint references app_user,
    taken_by    bigint references app_user,
    taken_until timestamptz,
    primary key (kind, item_id)
);
-- How long an item took somebody, from when they had it before them until it was done.
create table desk_time (
    id      bigint generated always as identity primary key,
    user_id bigint not null references app_user,
    kind    text not null,
    seconds int not null,
    at      timestamptz not null
);
create index desk_time_user on desk_time (user_id, kind, id desc);
-- How often a call was tried without a talk, and when last.
alter table work add column tries int not null default 0, add column tried_at timestamptz;
-- How often a user does each act of social touches on a day, whoever does them.
alter table app_user add column social_limits jsonb not null default '{}';
update app_user u set social_limits = a.limits from network_account a where a.user_id = u.id;

-- +goose Down
alter table app_user drop column social_limits;
alter table work drop column tries, drop column tried_at;
drop table desk_time;
drop table desk_item;
