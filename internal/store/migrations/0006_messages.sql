-- +goose Up

-- What a message says, as core/message has it: sections, groups of readers and
-- their versions.
alter table message_version add column doc jsonb;
update message_version
set doc = jsonb_build_object('style', 'plain', 'subject', jsonb_build_object('0', subject), 'last', 1,
    'sections', jsonb_build_array(jsonb_build_object('id', 1, 'kind', 'text', 'for',
    	jsonb_build_object('0', jsonb_build_object('text', body)))));
alter table message_version alter column doc set not null, drop column body;

alter table message
    add column draft_n int not null default 0, -- which of message_draft is the draft now; version 0: never kept
    add column removed_at timestamptz;

-- Every state a draft went through, for undo and redo.
create table message_draft (
    message_id bigint not null references message on delete cascade,
    n          int not null,
    doc        jsonb not null,
    from_owner boolean not null,
    sender_id  bigint references app_user,
    what       text not null,
    at         timestamptz not null,
    user_id    bigint references app_user,
    primary key (message_id, n)
);

-- Groups of readers that messages have words for. A message keeps the rule a
-- group had when it was written.
create table reader_group (
    id       bigint generated always as identity primary key,
    name     text not null,
    rule     jsonb not null,
    position int not null default 0
);
create unique index reader_group_name on reader_group (lower(name));

-- What is changed in a message for one reader alone.
create table personal_edit (
    message_id bigint not null references message on delete cascade,
    person_id  bigint not null references person on delete cascade,
    edit       jsonb not null,
    at         timestamptz not null,
    user_id    bigint references app_user,
    primary key (message_id, person_id)
);
create index personal_edit_person on personal_edit (person_id);

alter table app_user add column signature text not null default '';

alter table touch
    add column reader_group bigint, -- whose words were sent; 0: everyone else's
    add column edit jsonb;          -- what was changed in them for this reader alone

-- +goose Down
alter table touch drop column reader_group, drop column edit;
alter table app_user drop column signature;
drop table personal_edit, reader_group, message_draft;
alter table message drop column draft_n, drop column removed_at;
alter table message_version add column body text;
update message_version set body = coalesce(doc->'sections'->0->'for'->'0'->>'text', '');
alter table message_version alter column body set not null, drop column doc;
