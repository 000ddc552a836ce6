-- +goose Up
-- How many emails of each message went out, and how often each page was looked at, begun and finished, kept as it
-- arises.
-- +goose StatementBegin
create function count_messages() returns trigger language plpgsql as $$
begin
    if tg_op = 'INSERT' then
        insert into kept (of, id, n)
        select 'message', message_id, count(*)
        from made
        where state = 'sent' and message_id is not null
        group by 2;
    elsif tg_op = 'DELETE' then
        insert into kept (of, id, n)
        select 'message', message_id, -count(*)
        from gone
        where state = 'sent' and message_id is not null
        group by 2;
    else
        insert into kept (of, id, n)
        select 'message', t.message_id, sum(t.d)
        from (
            select message_id, 1 as d from made where state = 'sent'
            union all
            select message_id, -1 from gone where state = 'sent') t
        where t.message_id is not null
        group by 2
        having sum(t.d) <> 0;
    end if;
    return null;
end $$;

create function count_visits() returns trigger language plpgsql as $$
begin
    if tg_op = 'INSERT' then
        insert into kept (of, id, what, n)
        select 'page', v.page_id, w.what, count(*)
        from made v, lateral (values ('seen', true), ('begun', v.started_at is not null),
            ('finished', v.finished_at is not null)) as w(what, so)
        where w.so
        group by 2, 3;
    elsif tg_op = 'DELETE' then
        insert into kept (of, id, what, n)
        select 'page', v.page_id, w.what, -count(*)
        from gone v, lateral (values ('seen', true), ('begun', v.started_at is not null),
            ('finished', v.finished_at is not null)) as w(what, so)
        where w.so
        group by 2, 3;
    else
        insert into kept (of, id, what, n)
        select 'page', v.page_id, w.what, sum(v.d)
        from (select m.*, 1 as d from made m union all select g.*, -1 from gone g) v,
            lateral (values ('seen', true), ('begun', v.started_at is not null),
                ('finished', v.finished_at is not null)) as w(what, so)
        where w.so
        group by 2, 3
        having sum(v.d) <> 0;
    end if;
    return null;
end $$;
-- +goose StatementEnd

insert into kept (of, id, n)
select 'message', message_id, count(*)
from touch
where state = 'sent' and message_id is not null
group by 2;
insert into kept (of, id, what, n)
select 'page', v.page_id, w.what, count(*)
from page_visit v, lateral (values ('seen', true), ('begun', v.started_at is not null),
    ('finished', v.finished_at is not null)) as w(what, so)
where w.so
group by 2, 3;

create trigger count_messages_made after insert on touch
    referencing new table as made for each statement execute function count_messages();
create trigger count_messages_changed after update on touch
    referencing new table as made old table as gone for each statement execute function count_messages();
create trigger count_messages_gone after delete on touch
    referencing old table as gone for each statement execute function count_messages();
create trigger count_visits_made after insert on page_visit
    referencing new table as made for each statement execute function count_visits();
create trigger count_visits_changed after update on page_visit
    referencing new table as made old table as gone for each statement execute function count_visits();
create trigger count_visits_gone after delete on page_visit
    referencing old table as gone for each statement execute function count_visits();

-- The newest answers by people: {reply} of core/signal.
create index incoming_replies on incoming (at desc, id desc) where kind = 6 and (not unsure or sorted = 'theirs');

-- +goose Down
drop index incoming_replies;
drop trigger count_visits_gone on page_visit;
drop trigger count_visits_changed on page_visit;
drop trigger count_visits_made on page_visit;
drop trigger count_messages_gone on touch;
drop trigger count_messages_changed on touch;
drop trigger count_messages_made on touch;
drop function count_visits;
drop function count_messages;
delete from kept where of in ('message', 'page');
