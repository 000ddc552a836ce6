-- +goose Up

-- Records

alter table person
    add column seniority  text not null default '',
    add column department text not null default '',
    add column region     text not null default '',
    add column language   text not null default '',
    add column profile    text not null default '',
    add column medium     text not null default '',
    add column campaign   text not null default '',
    add column term       text not null default '',
    add column content    text not null default '',
    add column own        jsonb not null default '{}', -- values of the workspace's own fields, by their id
    add column batch_id   bigint,                      -- the import that made it
    add column erased_at  timestamptz;                 -- nothing is left but what is counted
-- Rules compare texts as they stand: the core tidies them before they are kept.
update person
set first_name = btrim(first_name), last_name = btrim(last_name), title = btrim(title), city = btrim(city),
	source = btrim(source),
    country = upper(btrim(country)), phone = regexp_replace(phone, '[^+0-9]', '', 'g');
alter table person drop constraint person_email_key;
create unique index person_email on person (email) where email <> '';
-- Names are put in order by their plain letters, without case: lowering all the
-- world's letters costs more than the rest of keeping a row.
drop index person_name;
create index person_name on person (lower(last_name collate "C"), lower(first_name collate "C"), id);
create index person_first_name on person (lower(first_name collate "C"));
create index person_phone on person (phone) where phone <> '';
-- Whoever is brought in together, or met at one time, stands together: a
-- coarse index finds them and costs next to nothing when they come.
create index person_batch on person using brin (batch_id) with (pages_per_range = 16);
create index person_created on person using brin (created_at) with (pages_per_range = 16);
drop index person_owner;
create index person_owner on person (owner_id) where owner_id is not null;
drop index person_company;
create index person_company on person (company_id, id);

alter table company
    add column size    int not null default 0, -- people who work there; 0: unknown
    add column revenue text not null default '',
    add column batch_id bigint; -- the import that made it
create index company_batch on company (batch_id) where batch_id is not null;
update company set name = btrim(name), industry = btrim(industry), country = upper(btrim(country));
create index company_name on company (lower(name), id);

-- Addresses and numbers beside the first ones, which stand on the record.
create table contact_point (
    person_id bigint not null references person on delete cascade,
    kind      text not null check (kind in ('email', 'phone')),
    value     text not null,
    primary key (person_id, kind, value)
);
create unique index contact_point_email on contact_point (value) where kind = 'email';
create index contact_point_phone on contact_point (value) where kind = 'phone';

create table own_field (
    id       bigint generated always as identity primary key,
    name     text not null,
    type     text not null check (type in ('text', 'number', 'date', 'yes or no', 'one of', 'several of')),
    options  text[] not null default '{}',
    position int not null default 0
);
create unique index own_field_name on own_field (lower(name));

create table tag (
    id         bigint generated always as identity primary key,
    name       text not null,
    note       text not null default '',
    owner_id   bigint references app_user,
    ends_on    date, -- after that day it is ready to be cleaned up
    created_at timestamptz not null
);
create unique index tag_name on tag (lower(name));

create table person_tag (
    tag_id    bigint not null references tag on delete cascade,
    person_id bigint not null references person on delete cascade,
    at        timestamptz not null,
    primary key (tag_id, person_id)
);
create index person_tag_person on person_tag (person_id);

create table purpose (
    id       bigint generated always as identity primary key,
    name     text not null unique,
    position int not null default 0
);
insert into purpose (name) values ('Marketing email');

-- What somebody agreed to or took back. Nothing is changed or goes; the latest
-- of a person and a purpose is current.
create table consent (
    id         bigint generated always as identity primary key,
    person_id  bigint not null references person on delete cascade,
    purpose_id bigint not null references purpose,
    given      boolean not null,
    at         timestamptz not null,
    how        text not null,                -- by form, by import, by hand …
    ground     text not null default '',     -- on what legal ground, in words
    user_id    bigint references app_user,
    batch_id   bigint,
    current    boolean not null default true
);
create unique index consent_current on consent (person_id, purpose_id) where current;
create index consent_person on consent (person_id);
create index consent_batch on consent (batch_id) where batch_id is not null;

create table note (
    id        bigint generated always as identity primary key,
    person_id bigint not null references person on delete cascade,
    at        timestamptz not null,
    user_id   bigint references app_user,
    batch_id  bigint,
    text      text not null
);
create index note_person on note (person_id, at);

-- Long work on many people, or one step that can be undone: an import, a bulk
-- action, a merge.
create table batch (
    id        bigint generated always as identity primary key,
    kind      text not null,
    title     text not null,
    -- waiting → running → done, stopped or failed; done or stopped → undoing → undone
    state     text not null default 'waiting',
    total     bigint not null default 0,
    done      bigint not null default 0,
    stop      boolean not null default false,
    detail    jsonb not null default '{}',
    trouble   text not null default '',
    made_at   timestamptz not null,
    made_by   bigint references app_user,
    ended_at  timestamptz
);
create index batch_made on batch (kind, made_at);

-- Whom a bulk action is about.
create table batch_person (
    batch_id  bigint not null references batch on delete cascade,
    person_id bigint not null,
    done      boolean not null default false,
    primary key (batch_id, person_id)
);

-- What was changed on records: by field, the value before and after.
create table change (
    id         bigint generated always as identity primary key,
    person_id  bigint references person on delete cascade,
    company_id bigint references company on delete cascade,
    at         timestamptz not null,
    user_id    bigint references app_user,
    how        text not null,
    batch_id   bigint,
    before     jsonb not null,
    after      jsonb not null
);
create index change_person on change (person_id, id) where person_id is not null;
create index change_company on change (company_id, id) where company_id is not null;
create index change_batch on change (batch_id) where batch_id is not null;

-- Addresses of people who were erased and must not be written to again, hashed
-- with the workspace's key.
create table never_again (
    hash bytea primary key,
    at   timestamptz not null
);

-- Pairs of records that were looked at and are two people.
create table not_double (
    low  bigint not null references person on delete cascade,
    high bigint not null references person on delete cascade,
    primary key (low, high)
);

create table saved_view (
    id      bigint generated always as identity primary key,
    list    text not null,
    name    text not null,
    query   text not null,
    user_id bigint references app_user, -- null: everybody's
    unique nulls not distinct (list, name, user_id)
);

-- Imports

create table import (
    batch_id bigint primary key references batch on delete cascade,
    file     text not null,
    form     text not null check (form in ('csv', 'xlsx', 'vcard')),
    size     bigint not null default 0,
    options  jsonb not null default '{}',
    columns  jsonb not null default '[]', -- what the file's head says, and the first rows
    counts   jsonb not null default '{}',
    checked  boolean not null default false
);

create table import_piece (
    batch_id bigint not null references batch on delete cascade,
    n        int not null,
    data     bytea not null,
    primary key (batch_id, n)
);
alter table import_piece alter column data set storage external; -- it is cut up and read once: no time for packing

-- Each row of a file as the check read it, and what became of it. Not logged:
-- after a crash of the database the file is checked again.
create unlogged table import_row (
    batch_id   bigint not null,
    n          int not null,  -- order of records in the file, from 1
    line       int not null,  -- where it begins
    fate       smallint not null, -- 0 unknown, 1 new, 2 update, 3 unchanged, 4 rejected, 5 a double of an earlier row
    person_id  bigint,
    first_name text, last_name text, email text, phone text, title text, seniority text, department text,
    country text, region text, city text, zone text, language text, profile text,
    source text, medium text, campaign text, term text, content text,
    company text, domain text,
    owner_id bigint, own jsonb, do_not_contact boolean, tags text[], emails text[], phones text[], note text
);
create index import_row_batch on import_row (batch_id, n);

-- The companies that the rows of a file name, each once.
create unlogged table import_company (
    batch_id bigint not null,
    name text not null, domain text, industry text, size int, revenue text, country text
);
create index import_company_batch on import_company (batch_id);

create table import_reject (
    batch_id bigint not null references batch on delete cascade,
    n        int not null,
    line     int not null,
    field    text not null,
    value    text not null,
    reason   text not null,
    raw      text[] not null,
    primary key (batch_id, n)
);

-- How the columns of a file with this head were read last time.
create table import_memory (
    head    text primary key,
    options jsonb not null,
    used_at timestamptz not null
);

-- Audiences

create table audience (
    id         bigint generated always as identity primary key,
    name       text not null,
    note       text not null default '',
    live       boolean not null,
    rule       jsonb not null default '{}',
    asks       text[] not null default '{}', -- what a change of can make somebody join or leave
    owner_id   bigint references app_user,
    created_at timestamptz not null,
    changed_at timestamptz not null,
    swept_at   timestamptz not null, -- until when the passing of time alone is taken into account
    recount    boolean not null default false,
    members    bigint not null default 0
);
create unique index audience_name on audience (lower(name));

create table audience_member (
    audience_id bigint not null references audience on delete cascade,
    person_id   bigint not null references person on delete cascade,
    joined_at   timestamptz not null,
    primary key (audience_id, person_id)
);
create index audience_member_person on audience_member (person_id);

create table audience_move (
    id          bigint generated always as identity primary key,
    audience_id bigint not null references audience on delete cascade,
    person_id   bigint not null,
    at          timestamptz not null,
    joined      boolean not null
);
create index audience_move_at on audience_move (audience_id, at, id);
create index audience_move_person on audience_move (person_id);

-- People whom some live audience has to be asked about again. Rows are only
-- added and taken away, so that nobody waits for anybody.
create table audience_stale (
    person_id bigint not null,
    what      text not null, -- what has changed, as audience.asks names it
    due       timestamptz    -- not before; null: at once
);

-- Every way in which a record, a signal or a standing can change passes these
-- triggers: no writer can forget to tell. They fire once for a statement.
-- +goose StatementBegin
create function tell_audiences() returns trigger language plpgsql as $$
begin
    if exists (select from audience where live and asks @> array[tg_argv[0]]) then
        case tg_argv[0]
        when 'record' then
            insert into audience_stale select id, tg_argv[0] from changed;
        when 'signal' then
            insert into audience_stale select person_id, tg_argv[0], at from changed;
        when 'company' then
            insert into audience_stale select p.id, tg_argv[0] from person p join changed c on c.id = p.company_id;
        else
            insert into audience_stale select person_id, tg_argv[0] from changed;
        end case;
    end if;
    return null;
end $$;
-- +goose StatementEnd
create trigger tell_audiences_of_new after insert
	on person referencing new table as changed for each statement execute function tell_audiences('record');
create trigger tell_audiences after update
	on person referencing new table as changed for each statement execute function tell_audiences('record');
create trigger tell_audiences after update
	on company referencing new table as changed for each statement execute function tell_audiences('company');
create trigger tell_audiences after insert
	on signal referencing new table as changed for each statement execute function tell_audiences('signal');
create trigger tell_audiences_of_new after insert
	on standing referencing new table as changed for each statement execute function tell_audiences('score');
create trigger tell_audiences after update
	on standing referencing new table as changed for each statement execute function tell_audiences('score');
create trigger tell_audiences_of_new after insert
	on person_tag referencing new table as changed for each statement execute function tell_audiences('tag');
create trigger tell_audiences after delete
	on person_tag referencing old table as changed for each statement execute function tell_audiences('tag');
create trigger tell_audiences_of_new after insert
	on consent referencing new table as changed for each statement execute function tell_audiences('consent');
create trigger tell_audiences after update
	on consent referencing new table as changed for each statement execute function tell_audiences('consent');
create trigger tell_audiences_of_new after insert
	on deal referencing new table as changed for each statement execute function tell_audiences('deal');
create trigger tell_audiences after update
	on deal referencing new table as changed for each statement execute function tell_audiences('deal');
create trigger tell_audiences_of_new after insert
	on enrolment referencing new table as changed for each statement execute function tell_audiences('sequence');
create trigger tell_audiences after update
	on enrolment referencing new table as changed for each statement execute function tell_audiences('sequence');
create trigger tell_audiences_of_new after insert
	on audience_member referencing new table as changed for each statement execute function tell_audiences('audience');
create trigger tell_audiences after delete
	on audience_member referencing old table as changed for each statement execute function tell_audiences('audience');

-- Sets of signals by kind and time: audiences over windows.
create index signal_kind on signal (kind, at, person_id) where machine = '';

alter table score_model add column bands jsonb not null default '[]';

-- +goose Down
drop index person_name;
create index person_name on person (lower(last_name), lower(first_name), id);
drop index signal_kind;
alter table score_model drop column bands;
drop trigger tell_audiences_of_new on person; drop trigger tell_audiences on person; drop trigger tell_audiences
	on company; drop trigger tell_audiences on signal;
drop trigger tell_audiences_of_new on standing; drop trigger tell_audiences
	on standing; drop trigger tell_audiences_of_new on deal; drop trigger tell_audiences on deal;
drop trigger tell_audiences_of_new on enrolment; drop trigger tell_audiences on enrolment;
drop table audience_stale, audience_move, audience_member, audience, import_memory, import_reject, import_company,
	import_row, import_piece, import, saved_view, not_double, never_again,
    change, batch_person, batch, note, consent, purpose, person_tag, tag, own_field, contact_point cascade;
drop function tell_audiences;
alter table company drop column size, drop column revenue, drop column batch_id;
drop index company_name;
drop index person_first_name, person_phone, person_batch, person_created, person_email, person_company, person_owner;
delete from person where email = '' and not exists (select from enrolment e where e.person_id = person.id);
update person set email = 'without-address-' || id || '@invalid' where email = '';
alter table person drop column seniority, drop column department, drop column region, drop column language,
	drop column profile, drop column medium, drop column campaign,
    drop column term, drop column content, drop column own, drop column batch_id, drop column erased_at,
    	add constraint person_email_key unique (email);
create index person_company on person (company_id);
create index person_owner on person (owner_id);
