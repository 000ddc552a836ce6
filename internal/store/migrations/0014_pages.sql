-- +goose Up

-- What a page says and asks, as core/page has it: doc is what visitors see, the
-- draft what is written.
alter table page
    add column doc jsonb,
    add column draft_n int not null default 0,
    add column removed_at timestamptz;
update page set doc = jsonb_build_object('title', title, 'last', 1,
    'blocks', case when intro = '' then '[]'::jsonb
    	else jsonb_build_array(jsonb_build_object('id', 1, 'kind', 'text', 'content',
    	jsonb_build_object('text', intro))) end,
    'form', jsonb_build_object('title', offer, 'button', button, 'thanks', thanks, 'at_once', 0, 'questions',
    	jsonb_build_array(
        jsonb_build_object('field', 'first name', 'must', true), jsonb_build_object('field', 'last name', 'must', true),
        jsonb_build_object('field', 'company', 'must', true),
        	jsonb_build_object('field', 'email', 'label', 'Work email', 'must', true))));
alter table page alter column doc set not null, drop column intro, drop column button, drop column thanks;

-- Every state a draft went through, for undo and redo.
create table page_draft (
    page_id bigint not null references page on delete cascade,
    n       int not null,
    doc     jsonb not null,
    what    text not null,
    at      timestamptz not null,
    user_id bigint references app_user,
    primary key (page_id, n)
);

-- Each time the page was shown to somebody: nobody's name, only how far they
-- came.
create table page_visit (
    id          bigint generated always as identity primary key,
    page_id     bigint not null references page on delete cascade,
    at          timestamptz not null,
    started_at  timestamptz,
    finished_at timestamptz,
    source      text not null default '', -- campaign tag
    site        text not null default ''  -- the site that shows the form; empty: the page itself
);
create index page_visit_page on page_visit (page_id, at);
insert into page_visit (page_id, at, started_at, finished_at)
select page_id, at, at, at
from signal
where kind = 2 and page_id is not null
order by at;
insert into page_visit (page_id, at)
select page_id, at
from signal v
where kind = 1 and machine = '' and page_id is not null
    and not exists (
    	select from signal f
    	where f.kind = 2 and f.page_id = v.page_id and f.person_id = v.person_id
    		and f.at between v.at and v.at + interval '1 day')
    order by at;

-- Each form that was filled in.
create table page_answer (
    id        bigint generated always as identity primary key,
    page_id   bigint not null references page,
    person_id bigint not null references person,
    visit_id  bigint,
    at        timestamptz not null,
    answers   jsonb not null,  -- by field
    hidden    jsonb not null,  -- campaign tags and hidden fields
    consents  jsonb not null,  -- what was ticked, in its words
    acts      jsonb not null,  -- what is done once the address has proved itself
    site      text not null default '',
    chain     bigint,                   -- the first answer that came from the same browser; null: this one
    visitor   text not null default '', -- the browser, where it came from a site of our own
    proved_at timestamptz               -- when the address proved itself
);
create index page_answer_person on page_answer (person_id, page_id, at);
create index page_answer_page on page_answer (page_id, at);
create index page_answer_chain on page_answer (chain) where chain is not null;
create index page_answer_visitor on page_answer (visitor) where visitor <> '';

alter table touch add column answer_id bigint references page_answer; -- the email brings what a form asked for
create unique index touch_answer on touch (answer_id) where answer_id is not null;

-- Work that somebody has to do about a person, and what they are told of them.
create table task (
    id        bigint generated always as identity primary key,
    person_id bigint not null references person,
    user_id   bigint references app_user, -- null: anybody's
    alert     boolean not null,           -- to be seen, not done
    words     text not null,
    how       text not null,              -- what made it
    made_at   timestamptz not null,
    done_at   timestamptz,
    done_by   bigint references app_user,
    notes     text not null default ''
);
create index task_open on task (user_id, made_at) where done_at is null;
create index task_person on task (person_id);

-- +goose Down
drop table task;
update touch set state = 'withdrawn' where answer_id is not null and state in ('ready', 'claimed', 'stopped');
alter table touch drop column answer_id;
drop table page_answer, page_visit, page_draft;
alter table page add column intro text not null default '', add column button text not null default 'Send',
	add column thanks text not null default '';
update page
set intro = coalesce((select string_agg(b->'content'->>'text', '') from jsonb_array_elements(doc->'blocks') b), ''),
	button = doc->'form'->>'button', thanks = coalesce(doc->'form'->>'thanks', '');
alter table page alter column button drop default, drop column doc, drop column draft_n, drop column removed_at;
