-- +goose Up
-- One tree in which lies what people make. Where nothing is said of a thing, it lies at the top.
create table folder (
    id        bigint generated always as identity primary key,
    parent_id bigint references folder on delete cascade,
    name      text not null,
    note      text not null default ''
);
create unique index folder_name on folder (parent_id, lower(name)) nulls not distinct;

create table filed (
    kind      text not null
        check (kind in ('sequence', 'message', 'page', 'email', 'event', 'shelf', 'audience')),
    thing_id  bigint not null,
    folder_id bigint not null references folder on delete cascade,
    primary key (kind, thing_id)
);
create index filed_folder on filed (folder_id);

-- What each is for. Sequences, audiences, events and shelf items say so already.
alter table message add column note text not null default '';
alter table page add column note text not null default '';
alter table mailing add column note text not null default '';

-- +goose Down
alter table mailing drop column note;
alter table page drop column note;
alter table message drop column note;
drop table filed;
drop table folder;
