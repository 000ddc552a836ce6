-- +goose Up
-- Several pipelines, each with stages of its own. What a team's reps accept begins in their pipeline.
create table pipeline (
    id       bigint generated always as identity primary key,
    name     text not null,
    position int not null default 0,
    team_id  bigint references team
);
insert into pipeline (name, position) values ('Sales', 1);
alter table stage add column pipeline_id bigint references pipeline;
update stage set pipeline_id = (select min(id) from pipeline);
alter table stage alter column pipeline_id set not null;
create index stage_pipeline on stage (pipeline_id, position);

-- What one unit of a currency is worth in another, from a day on.
create table rate (
    currency text not null,
    base     text not null,
    day      date not null,
    value    numeric(20, 10) not null check (value > 0),
    primary key (currency, base, day)
);

-- A deal has a currency of its own; worth is its amount in that of the workspace, by the rate of the day on which it
-- was closed, or of today. Where it came from is kept as it was when the deal was opened.
alter table deal disable trigger user;
alter table deal
    add column currency    text not null default 'EUR',
    add column worth       bigint not null default 0,
    add column rated       boolean not null default true,
    add column sequence_id bigint references sequence on delete set null,
    add column campaign    text not null default '',
    add column leaving     boolean not null default false; -- whoever it is about has still to leave the sequences
create index deal_leaving on deal (id) where leaving;
update deal d
set currency = coalesce((select value ->> 'currency' from setting where name = 'workspace'), 'EUR'),
    worth = d.amount,
    sequence_id = (
        select h.sequence_id
        from handoff h
        join sequence s on s.id = h.sequence_id
        where h.id = d.handoff_id),
    campaign = (select p.campaign from person p where p.id = d.person_id);
alter table deal enable trigger user;
alter table deal alter column currency drop default;
drop index deal_open_amount;
create index deal_open_worth on deal (worth desc, id) where closed_at is null;
create index deal_open_sums on deal (stage_id) include (worth) where closed_at is null;
create index deal_closed_sums on deal (closed_at) include (stage_id, worth) where closed_at is not null;
create index deal_rep on deal (rep_id, worth desc, id) where closed_at is null;
create index deal_of_company on deal (company_id);

-- Who else takes part in a deal, and as what.
create table deal_part (
    id        bigint generated always as identity primary key,
    deal_id   bigint not null references deal on delete cascade,
    person_id bigint not null references person,
    part      text not null default '',
    unique (deal_id, person_id)
);
create index deal_part_of on deal_part (person_id);
-- Everybody's deals: those about them, and those in which they take part.
create view deal_of as
    select d.id, d.person_id, d.stage_id, d.closed_at from deal d
    union all
    select d.id, x.person_id, d.stage_id, d.closed_at from deal_part x join deal d on d.id = x.deal_id;

-- Who was accepted into a deal that was open.
alter table accepted add column joined boolean not null default false;

create table deal_file (
    id      bigint generated always as identity primary key,
    deal_id bigint not null references deal on delete cascade,
    name    text not null,
    type    text not null,
    size    bigint not null,
    data    bytea not null,
    at      timestamptz not null,
    user_id bigint references app_user
);
create index deal_file_deal on deal_file (deal_id);

-- What was done with many deals at once, so that it can be taken back: of each, the stage or the rep it had.
create table deal_bulk (
    id        bigint generated always as identity primary key,
    user_id   bigint not null references app_user,
    at        timestamptz not null,
    what      text not null check (what in ('stage', 'owner')),
    became    bigint not null,
    was       jsonb not null,
    undone_at timestamptz
);

alter table deal_change drop constraint deal_change_what_check;
alter table deal_change add constraint deal_change_what_check check (what in ('amount', 'owner', 'name', 'expected',
    'next step', 'next on', 'reason', 'worth', 'takes part', 'about', 'file', 'company'));
-- A change of a deal is one for everybody who takes part in it.
-- +goose StatementBegin
create function tell_deal_parts() returns trigger language plpgsql as $$
declare
    who bigint[] := array(select distinct x.person_id from deal_part x join changed c on c.id = x.deal_id);
begin
    if who = '{}' then
        return null;
    end if;
    if exists (select from audience where live and asks @> '{deal}') then
        insert into audience_stale select unnest(who), 'deal';
    end if;
    if exists (select from score_model where asks @> '{deal}') then
        perform from standing where person_id = any (who) order by model_id, person_id for update;
        update standing set due = 'epoch' where person_id = any (who);
    end if;
    return null;
end $$;
-- +goose StatementEnd
create trigger tell_deal_parts after update on deal
    referencing new table as changed for each statement execute function tell_deal_parts();
create trigger tell_audiences_of_new after insert on deal_part
    referencing new table as changed for each statement execute function tell_audiences('deal');
create trigger tell_audiences after delete on deal_part
    referencing old table as changed for each statement execute function tell_audiences('deal');
create trigger tell_scores_of_new after insert on deal_part
    referencing new table as changed for each statement execute function tell_scores('deal');
create trigger tell_scores after delete on deal_part
    referencing old table as changed for each statement execute function tell_scores('deal');

-- +goose Down
drop trigger tell_deal_parts on deal;
drop function tell_deal_parts;
drop view deal_of;
drop table deal_bulk, deal_file, deal_part;
alter table accepted drop column joined;
delete from deal_change where what in ('worth', 'takes part', 'about', 'file', 'company');
alter table deal_change drop constraint deal_change_what_check;
alter table deal_change add constraint deal_change_what_check
    check (what in ('amount', 'owner', 'name', 'expected', 'next step', 'next on', 'reason'));
drop index deal_open_worth, deal_open_sums, deal_closed_sums, deal_rep, deal_of_company;
create index deal_open_amount on deal (amount desc, id) where closed_at is null;
alter table deal drop column currency, drop column worth, drop column rated, drop column sequence_id,
    drop column campaign, drop column leaving;
drop table rate;
alter table stage drop column pipeline_id;
drop table pipeline;
