-- +goose Up
-- Several models of scores count beside each other, one for each product: the first is whose score is meant where none
-- is named, and is never removed. One that is removed counts nothing from then on; its scores are dropped by and by.
alter table score_model
    add column removed_at timestamptz;

-- What each rule gives, by its number, so that people can be asked for by it; null: nothing.
alter table standing
    add column parts jsonb;

-- What is to be counted is looked for by model.
drop index standing_due;
create index standing_due on standing (model_id, due) where due is not null;

-- Deals can be asked for by what brought them.
create or replace view deal_of as
    select d.id, d.person_id, d.stage_id, d.closed_at, d.sequence_id, d.campaign from deal d
    union all
    select d.id, x.person_id, d.stage_id, d.closed_at, d.sequence_id, d.campaign
    from deal_part x
    join deal d on d.id = x.deal_id;

-- Whose line was crossed.
alter table handoff
    add column model_id bigint references score_model;

-- Scores that are kept are counted once more, so that what each rule gives is known of them.
update standing set due = least(coalesce(due, now()), now()) where counted_at is not null;

-- +goose Down
drop view deal_of;
create view deal_of as
    select d.id, d.person_id, d.stage_id, d.closed_at from deal d
    union all
    select d.id, x.person_id, d.stage_id, d.closed_at from deal_part x join deal d on d.id = x.deal_id;
alter table handoff
    drop column model_id;
delete from standing
where model_id in (select id from score_model where removed_at is not null or id > (select min(id) from score_model));
delete from score_model m
where m.removed_at is not null or m.id > (select min(id) from score_model);
drop index standing_due;
create index standing_due on standing (due) where due is not null;
alter table standing
    drop column parts;
alter table score_model
    drop column removed_at;
