-- +goose Up
-- Whose turn it is, by weights: up to where somebody's turns have gone.
alter table app_user
    add column weight int not null default 1,
    add column turn   double precision not null default 0;

-- Where a rule sends people: to a rep, or to whoever is next of a team. The first whose rule holds decides.
create table territory (
    id         bigint generated always as identity primary key,
    name       text not null,
    position   int not null,
    rule       jsonb not null,
    user_id    bigint references app_user,
    team_id    bigint references team,
    made_at    timestamptz not null,
    removed_at timestamptz,
    check ((user_id is null) <> (team_id is null))
);

-- Why a rep sends somebody back, how long they are left in peace then, and where nurture goes on.
create table back_reason (
    id          bigint generated always as identity primary key,
    name        text not null,
    position    int not null,
    cool_off    int not null default 30,
    goes_on     text not null default 'nowhere' check (goes_on in ('nowhere', 'where they came from', 'sequence')),
    sequence_id bigint references sequence,
    step        int not null default 0,
    made_at     timestamptz not null,
    removed_at  timestamptz,
    check ((goes_on = 'sequence') = (sequence_id is not null))
);

-- Why a rep was chosen, in the order in which it was asked; from when the response clock runs, how far it is and when
-- it is looked at again; who had it offered and let the clock run out. Until when somebody who was sent back cannot
-- cross the ready line, and their coming back to nurture.
alter table handoff
    add column why         text[] not null default '{}',
    add column clock_from  timestamptz,
    add column clock_step  int not null default 0,
    add column clock_due   timestamptz,
    add column offered     bigint[] not null default '{}',
    add column cool_until  timestamptz,
    add column comeback_id bigint references comeback on delete set null;
update handoff set clock_from = made_at, clock_due = case when state = 'open' then made_at end;
alter table handoff alter column clock_from set not null;
create index handoff_clock on handoff (clock_due) where state = 'open' and rep_id is not null and clock_due is not null;
create index handoff_cooling on handoff (person_id, cool_until) where cool_until is not null;

-- At which step somebody comes into a sequence again; 0: at its beginning.
alter table comeback add column step int not null default 0;

-- +goose Down
alter table comeback drop column step;
drop index handoff_clock;
drop index handoff_cooling;
alter table handoff
    drop column why, drop column clock_from, drop column clock_step, drop column clock_due, drop column offered,
    drop column cool_until, drop column comeback_id;
drop table back_reason;
drop table territory;
alter table app_user drop column weight, drop column turn;
