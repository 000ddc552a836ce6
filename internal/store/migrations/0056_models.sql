-- +goose Up
-- A model's rules stand with it as the program keeps them, so that a rule can say where its signals come from and what
-- it stands with. What is being changed is a draft beside it; what took over is kept as a version.
alter table score_model
    add column rules         jsonb not null default '[]',
    add column last_id       bigint not null default 0,
    add column fit_line      int not null default 0,
    add column cool_off      int not null default 0,
    add column version       int not null default 1,
    add column line_before   int not null default 0, -- of the version before this one
    add column taken_over    int not null default 0, -- what changes stood at when this one took over
    add column draft         jsonb,
    add column draft_changes int not null default 0,
    add column draft_by      bigint references app_user,
    add column draft_at      timestamptz;
update score_model m
set rules = x.rules, last_id = x.last
from (
    select model_id, max(id) as last, jsonb_agg(jsonb_build_object(
        'id', id, 'on', jsonb_build_object('kind', kind), 'points', points, 'often', often, 'n', n,
        'window', window_days, 'lasts', lasts, 'half', half, 'wipe', wipe, 'if', condition)
        order by position, id) as rules
    from score_rule
    group by model_id) x
where x.model_id = m.id;
drop table score_rule;

create table score_version (
    model_id bigint not null references score_model on delete cascade,
    number   int not null,
    model    jsonb not null,
    note     text not null default '',
    made_by  bigint references app_user,
    made_at  timestamptz not null,
    primary key (model_id, number)
);
insert into score_version (model_id, number, model, made_at)
select id, 1, jsonb_build_object('name', name, 'floor', floor, 'ceiling', ceiling, 'line', line, 'margin', margin,
    'rules', rules, 'last_id', last_id, 'bands', bands, 'fit', fit, 'fit_bands', fit_bands), now()
from score_model;

-- Who came over the ready line because the model changed, and by nothing else. Nobody of them is handed over but where
-- somebody says so: then each has an instant.
create table score_lifted (
    model_id  bigint not null references score_model on delete cascade,
    person_id bigint not null references person on delete cascade,
    version   int not null,
    score     double precision not null,
    due       timestamptz,
    done_at   timestamptz,
    primary key (model_id, person_id)
);
create index score_lifted_due on score_lifted (due) where due is not null and done_at is null;

alter table handoff drop constraint handoff_made_by_check;
alter table handoff add constraint handoff_made_by_check
    check (made_by in ('crossing', 'step', 'hand', 'answer', 'change'));

-- Somebody new has a score before they did anything where a model gives points for what is on the record.
-- +goose StatementBegin
create function tell_new_scores() returns trigger language plpgsql as $$
begin
    insert into standing (model_id, person_id, due)
    select m.id, c.id, 'epoch'
    from changed c, score_model m
    where m.asks @> array['new']
    on conflict do nothing;
    return null;
end $$;
-- +goose StatementEnd
create trigger tell_scores_of_new after insert on person
    referencing new table as changed for each statement execute function tell_new_scores();

-- +goose Down
drop trigger tell_scores_of_new on person;
drop function tell_new_scores;
update handoff set made_by = 'hand' where made_by = 'change';
alter table handoff drop constraint handoff_made_by_check;
alter table handoff add constraint handoff_made_by_check check (made_by in ('crossing', 'step', 'hand', 'answer'));
drop table score_lifted;
drop table score_version;
create table score_rule (
    id          bigint generated always as identity primary key,
    model_id    bigint not null references score_model on delete cascade,
    position    int not null,
    kind        smallint not null,
    points      int not null,
    often       text not null default '',
    n           int not null default 0,
    window_days int not null default 0,
    lasts       int not null default 0,
    half        int not null default 0,
    wipe        boolean not null default false,
    condition   jsonb not null default '{}'
);
insert into score_rule (model_id, position, kind, points, often, n, window_days, lasts, half, wipe, condition)
select m.id, x.place, coalesce((r #>> '{on,kind}')::smallint, 0), (r ->> 'points')::int, coalesce(r ->> 'often', ''),
    coalesce((r ->> 'n')::int, 0), coalesce((r ->> 'window')::int, 0), coalesce((r ->> 'lasts')::int, 0),
    coalesce((r ->> 'half')::int, 0), coalesce((r ->> 'wipe')::boolean, false), coalesce(r -> 'if', '{}')
from score_model m, jsonb_array_elements(m.rules) with ordinality as x(r, place);
alter table score_model
    drop column rules, drop column last_id, drop column fit_line, drop column cool_off, drop column version,
    drop column line_before, drop column taken_over,
    drop column draft, drop column draft_changes, drop column draft_by, drop column draft_at;
