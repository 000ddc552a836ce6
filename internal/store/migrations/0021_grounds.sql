-- +goose Up
-- What, besides a consent, the workspace lets be named as the ground for reaching people.
create table ground (
    id       bigint generated always as identity primary key,
    name     text not null check (name <> ''),
    position int not null default 0
);
create unique index ground_name on ground (lower(name));
insert into ground (name, position) values ('existing customers', 1), ('legitimate interest', 2);

-- Sequences that were launched before they had to say so go on, and say that.
update sequence_version
set plan = jsonb_set(plan, '{ground}', '{"other": "launched before grounds were asked for"}')
where not plan ? 'ground';
alter table sequence_version
    add column purpose_id bigint generated always as ((plan->'ground'->>'purpose')::bigint) stored;

-- The ground on which each touch goes out: consent to a purpose, their own request, or another, in words.
alter table touch
    add column purpose_id bigint references purpose,
    add column ground text not null default '',
    add column request boolean not null default false;
update touch t set purpose_id = l.purpose_id from mailing l where l.id = t.mailing_id;
update touch set request = true where answer_id is not null;
update touch set ground = 'written by hand' where once is not null;
update touch t
set request = true
from sequence_version v, jsonb_array_elements(v.plan->'steps') s
where v.id = t.version_id and (s->>'id')::int = t.step and (s->>'request')::boolean;
update touch set ground = 'launched before grounds were asked for' where enrolment_id is not null and not request;

-- Who takes a consent back, or must not be contacted any more, is looked at in all their sequences.
-- +goose StatementBegin
create function tell_ways() returns trigger language plpgsql as $$
declare
    ways bigint[];
begin
    if tg_argv[0] = 'consent' then
        ways := array(select e.id from changed c
            join enrolment e on e.person_id = c.person_id and e.ended_at is null
            join sequence_version v on v.id = e.version_id and v.purpose_id = c.purpose_id
            where c.current and not c.given);
    else
        ways := array(select e.id from changed c join before b using (id)
            join enrolment e on e.person_id = c.id and e.ended_at is null
            where c.do_not_contact and not b.do_not_contact);
    end if;
    if ways <> '{}' then
        perform from enrolment where id = any (ways) order by id for update;
        update enrolment set look = 'epoch' where id = any (ways) and ended_at is null;
    end if;
    return null;
end $$;
-- +goose StatementEnd
create trigger tell_ways after insert on consent
    referencing new table as changed for each statement execute function tell_ways('consent');
create trigger tell_ways after update on person
    referencing old table as before new table as changed for each statement execute function tell_ways('person');

-- +goose Down
drop trigger tell_ways on person;
drop trigger tell_ways on consent;
drop function tell_ways();
alter table touch drop column request, drop column ground, drop column purpose_id;
alter table sequence_version drop column purpose_id;
update sequence_version set plan = plan - 'ground'
where plan->'ground'->>'other' = 'launched before grounds were asked for';
drop table ground;
