-- +goose Up
-- What an answer came to, as whoever sorted it says (core/answer); empty: it waits on a desk. By when it is to
-- be answered, and whose it is. What sorting it did is kept as long as it can be taken back.
alter table incoming
    add column answer      text not null default '',
    add column answered_at timestamptz,
    add column answered_by bigint references app_user,
    add column rep_id      bigint references app_user,
    add column due_at      timestamptz,
    add column did         jsonb;
-- Those that came before there was a desk for them lie on none.
update incoming set answer = case when sorted = 'not theirs' then 'not theirs' else 'earlier' end;
-- Kinds 6 and 14: a reply, and an answer on the network.
create index incoming_open on incoming (due_at, id) where answer = '' and kind in (6, 14) and person_id is not null;

-- Somebody is to come back into a sequence: an enrolment that goes on where it stood, or, where that is null, anew.
create table comeback (
    id           bigint generated always as identity primary key,
    person_id    bigint not null references person,
    sequence_id  bigint not null references sequence,
    enrolment_id bigint references enrolment on delete cascade,
    due          timestamptz not null,
    why          text not null default '',
    user_id      bigint references app_user,
    made_at      timestamptz not null,
    done_at      timestamptz,
    outcome      text not null default ''
);
create index comeback_due on comeback (due, id) where done_at is null;
create index comeback_person on comeback (person_id);
create index comeback_enrolment on comeback (enrolment_id) where enrolment_id is not null;

-- Words that are written again and again.
create table snippet (
    id         bigint generated always as identity primary key,
    name       text not null,
    body       text not null,
    user_id    bigint references app_user, -- whose alone it is; null: everybody's
    made_at    timestamptz not null,
    removed_at timestamptz
);
-- An email by hand that answers a letter.
alter table letter add column answers bigint references incoming on delete set null;
create index letter_answers on letter (answers) where answers is not null;

alter table handoff drop constraint handoff_made_by_check;
alter table handoff add constraint handoff_made_by_check check (made_by in ('crossing', 'step', 'hand', 'answer'));

-- +goose Down
update handoff set made_by = 'hand' where made_by = 'answer';
alter table handoff drop constraint handoff_made_by_check;
alter table handoff add constraint handoff_made_by_check check (made_by in ('crossing', 'step', 'hand'));
alter table letter drop column answers;
drop table snippet;
drop table comeback;
drop index incoming_open;
alter table incoming drop column did, drop column due_at, drop column rep_id, drop column answered_by,
    drop column answered_at, drop column answer;
