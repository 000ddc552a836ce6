-- +goose Up
-- What the rules of a model ask for besides signals: a change of it has scores counted again.
alter table score_model add column asks text[] not null default '{}';
update score_model m set asks = '{record,company,tag,consent,deal,sequence,audience}'
where exists (select from score_rule r where r.model_id = m.id and r.condition <> '{}');

-- Whether somebody could be reached when their score was last counted: the ready line asks for it.
alter table standing add column ready boolean not null default true;

-- +goose StatementBegin
create function tell_scores() returns trigger language plpgsql as $$
declare
    who bigint[];
begin
    if not exists (select from score_model where asks @> array[tg_argv[0]]) then
        return null;
    end if;
    case tg_argv[0]
    when 'record' then
        who := array(select id from changed);
    when 'company' then
        who := array(select p.id from person p join changed c on c.id = p.company_id);
    else
        who := array(select person_id from changed);
    end case;
    -- Always in one order, so that two of these do not wait for each other.
    perform from standing where person_id = any (who) order by model_id, person_id for update;
    update standing set due = 'epoch' where person_id = any (who);
    return null;
end $$;

create function tell_ready() returns trigger language plpgsql as $$
declare
    who bigint[] := array(
        select n.id from changed n join before b using (id)
        where (n.do_not_contact, n.opted_out_at is null, n.bounced_at is null, n.email = '', n.phone = '',
        	n.erased_at is null)
            is distinct from
            (b.do_not_contact, b.opted_out_at is null, b.bounced_at is null, b.email = '', b.phone = '',
            	b.erased_at is null));
begin
    if who <> '{}' then
        perform from standing where person_id = any (who) order by model_id, person_id for update;
        update standing set due = 'epoch' where person_id = any (who);
    end if;
    return null;
end $$;
-- +goose StatementEnd

create trigger tell_ready after update on person
    referencing old table as before new table as changed for each statement execute function tell_ready();
create trigger tell_scores after update on person
    referencing new table as changed for each statement execute function tell_scores('record');
create trigger tell_scores after update on company
    referencing new table as changed for each statement execute function tell_scores('company');
create trigger tell_scores_of_new after insert on person_tag
    referencing new table as changed for each statement execute function tell_scores('tag');
create trigger tell_scores after delete on person_tag
    referencing old table as changed for each statement execute function tell_scores('tag');
create trigger tell_scores_of_new after insert on consent
    referencing new table as changed for each statement execute function tell_scores('consent');
create trigger tell_scores after update on consent
    referencing new table as changed for each statement execute function tell_scores('consent');
create trigger tell_scores_of_new after insert on deal
    referencing new table as changed for each statement execute function tell_scores('deal');
create trigger tell_scores after update on deal
    referencing new table as changed for each statement execute function tell_scores('deal');
create trigger tell_scores_of_new after insert on enrolment
    referencing new table as changed for each statement execute function tell_scores('sequence');
create trigger tell_scores after update on enrolment
    referencing new table as changed for each statement execute function tell_scores('sequence');
create trigger tell_scores_of_new after insert on audience_member
    referencing new table as changed for each statement execute function tell_scores('audience');
create trigger tell_scores after delete on audience_member
    referencing old table as changed for each statement execute function tell_scores('audience');

-- +goose Down
drop trigger tell_ready on person;
drop trigger tell_scores on person;
drop trigger tell_scores on company;
drop trigger tell_scores_of_new on person_tag;
drop trigger tell_scores on person_tag;
drop trigger tell_scores_of_new on consent;
drop trigger tell_scores on consent;
drop trigger tell_scores_of_new on deal;
drop trigger tell_scores on deal;
drop trigger tell_scores_of_new on enrolment;
drop trigger tell_scores on enrolment;
drop trigger tell_scores_of_new on audience_member;
drop trigger tell_scores on audience_member;
drop function tell_scores, tell_ready;
alter table standing drop column ready;
alter table score_model drop column asks;
