-- +goose Up
-- A touch says that somebody is reached out to, and what came of it. What its letter needs to be sent, and its
-- work on a
-- desk, stand by themselves: in rows so narrow, with so few indexes, that a letter is claimed and marked without
-- a change
-- to any of them.
create table letter (
    touch_id     bigint primary key references touch on delete cascade,
    lane         smallint not null check (lane in (1, 2, 3)), -- by itself, of a sequence, of a one-off email
    phase        text not null default 'waiting' check (phase in ('waiting', 'claimed', 'sending', 'aside', 'over')),
    -- Still to be sent, and set aside: the indexes know these alone, so that a claim changes none of them.
    open         boolean generated always as (phase in ('waiting', 'claimed', 'sending')) stored,
    aside        boolean generated always as (phase = 'aside') stored,
    ready_at     timestamptz not null,
    tries        int not null default 0,
    worker       bigint,
    claimed_at   timestamptz,
    mail_id      text, -- t, the touch's number, a point, some letters, @ and a domain: found by that number
    sender_id    bigint,
    address      text not null default '',
    subject      text not null default '',
    trouble      text not null default '', -- why it did not go out when it was last tried
    reader_group bigint,
    edit         jsonb
) with (fillfactor = 70);

insert into letter (touch_id, lane, phase, ready_at, tries, worker, claimed_at, mail_id, sender_id, address, subject,
        trouble, reader_group, edit)
    select id, case when enrolment_id is not null then 2 when mailing_id is not null then 3 else 1 end,
        case when state = 'ready' then 'waiting' when state in ('claimed', 'sending') then state
            when state in ('held', 'stopped') then 'aside' else 'over' end,
        ready_at, tries, case when state in ('claimed', 'sending') then worker end, claimed_at, mail_id, sender_id,
        address, subject, case when state in ('passed', 'withdrawn') then '' else trouble end, reader_group, edit
    from touch where kind = 'email';
-- Who has nothing in hand is not looked after: there is a row for each start of a worker there ever was.
delete from worker w where not exists (select from letter l where l.worker = w.id);
create index letter_ready on letter (lane, ready_at, touch_id) where open;
create index letter_aside on letter (touch_id) where aside;

create table work (
    touch_id bigint primary key references touch on delete cascade,
    open     boolean not null default true, -- still to be done
    rep_id   bigint references app_user,
    ready_at timestamptz not null,
    outcome  text not null default '',
    notes    text not null default ''
);
insert into work (touch_id, open, rep_id, ready_at, outcome, notes)
    select id, state = 'desk', rep_id, ready_at, outcome, notes from touch where kind <> 'email';
create index work_open on work (rep_id, ready_at) where open;

drop index touch_trouble, touch_claimed, touch_desk, touch_ready, touch_ready_mailing, touch_single;
alter table touch drop constraint touch_state_check;
update touch set state = 'ready' where state in ('claimed', 'sending');
update touch set trouble = '' where trouble <> '' and state not in ('passed', 'withdrawn');
alter table touch
    add constraint touch_state_check
        check (state in ('ready', 'sent', 'held', 'stopped', 'passed', 'withdrawn', 'desk', 'done', 'missed')),
    add column visit int not null default 1, -- the how-manieth time its enrolment came to the step
    drop constraint touch_enrolment_id_step_key,
    drop column ready_at, drop column tries, drop column claimed_at, drop column worker, drop column mail_id,
    drop column sender_id, drop column address, drop column subject, drop column rep_id, drop column outcome,
    drop column notes, drop column reader_group, drop column edit;
-- What has become of a touch is in no index: it changes on its page.
alter table touch set (fillfactor = 85);
create unique index touch_visit on touch (enrolment_id, step, visit) where enrolment_id is not null;
alter table enrolment
    add column visit int not null default 1, -- of its step
    add column key bigint not null default 0; -- its person's number as they entered: a merge changes that, and not this
update enrolment set key = person_id;
analyze letter;
analyze work;

-- +goose Down
alter table enrolment drop column visit, drop column key;
drop index touch_visit;
delete from touch where visit > 1;
alter table touch drop column visit,
    add column ready_at timestamptz, add column tries int not null default 0, add column claimed_at timestamptz,
    add column worker bigint, add column mail_id text unique, add column sender_id bigint,
    add column address text not null default '', add column subject text not null default '',
    add column rep_id bigint references app_user, add column outcome text not null default '',
    add column notes text not null default '', add column reader_group bigint, add column edit jsonb,
    add constraint touch_enrolment_id_step_key unique (enrolment_id, step),
    drop constraint touch_state_check;
update touch t set state = case when l.phase in ('claimed', 'sending') then l.phase else t.state end,
        ready_at = l.ready_at, tries = l.tries, claimed_at = l.claimed_at, worker = l.worker, mail_id = l.mail_id,
        sender_id = l.sender_id, address = l.address, subject = l.subject, reader_group = l.reader_group, edit = l.edit,
        trouble = case when t.trouble = '' then l.trouble else t.trouble end
    from letter l where l.touch_id = t.id;
update touch t set ready_at = w.ready_at, rep_id = w.rep_id, outcome = w.outcome, notes = w.notes
    from work w where w.touch_id = t.id;
alter table touch alter column ready_at set not null, add constraint touch_state_check
    check (state in ('ready', 'claimed', 'sending', 'sent', 'held', 'stopped', 'desk', 'done', 'missed', 'withdrawn',
    	'passed'));
create index touch_ready on touch (ready_at, id) where state = 'ready' and mailing_id is null;
create index touch_ready_mailing on touch (ready_at, id) where state = 'ready' and mailing_id is not null;
create index touch_single on touch (ready_at) where state = 'ready' and enrolment_id is null and mailing_id is null;
create index touch_trouble on touch (id) where state in ('held', 'stopped');
create index touch_claimed on touch (worker) where state in ('claimed', 'sending');
create index touch_desk on touch (rep_id, ready_at) where state = 'desk';
drop table work, letter;
