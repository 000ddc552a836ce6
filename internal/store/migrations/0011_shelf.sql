-- +goose Up
-- What is kept for readers and reps: files and links.
create table shelf_item (
    id         bigint generated always as identity primary key,
    title      text not null,
    kind       text not null check (kind in ('file', 'link')),
    language   text not null default '',
    stage      text not null default '',  -- of the sale it is for, in words
    note       text not null default '',  -- for reps; readers do not see it
    about      text not null default '',  -- for readers
    ends_on    date,                      -- after that day it is not offered any more
    version    int not null default 0,
    created_at timestamptz not null,
    created_by bigint references app_user,
    removed_at timestamptz
);

create table shelf_version (
    item_id bigint not null references shelf_item on delete cascade,
    version int not null,
    name    text not null default '', -- of the file
    type    text not null default '',
    size    bigint not null default 0,
    data    bytea,
    url     text not null default '',
    at      timestamptz not null,
    user_id bigint references app_user,
    primary key (item_id, version)
);
alter table shelf_version alter column data set storage external;

-- Who took what.
create table shelf_taken (
    id        bigint generated always as identity primary key,
    item_id   bigint not null references shelf_item on delete cascade,
    person_id bigint not null references person on delete cascade,
    at        timestamptz not null
);
create index shelf_taken_item on shelf_taken (item_id, at);
create index shelf_taken_person on shelf_taken (person_id);

-- +goose Down
drop table shelf_taken, shelf_version, shelf_item;
