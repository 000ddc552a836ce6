-- +goose Up
-- How many stand to each event how is kept as it arises: a list of events counts nobody.
-- +goose StatementBegin
create function count_attendance() returns trigger language plpgsql as $$
begin
    if tg_op = 'INSERT' then
        insert into kept (of, id, what, n)
        select 'event', a.event_id, a.state, count(*)
        from made a
        where a.current
        group by 2, 3;
    elsif tg_op = 'DELETE' then
        insert into kept (of, id, what, n)
        select 'event', a.event_id, a.state, -count(*)
        from gone a
        where a.current
        group by 2, 3;
    else
        insert into kept (of, id, what, n)
        select 'event', a.event_id, a.state, sum(a.d)
        from (select m.*, 1 as d from made m union all select g.*, -1 from gone g) a
        where a.current
        group by 2, 3
        having sum(a.d) <> 0;
    end if;
    return null;
end $$;
-- +goose StatementEnd

create trigger count_attendance_made after insert on attendance
    referencing new table as made for each statement execute function count_attendance();
create trigger count_attendance_changed after update on attendance
    referencing new table as made old table as gone for each statement execute function count_attendance();
create trigger count_attendance_gone after delete on attendance
    referencing old table as gone for each statement execute function count_attendance();

insert into kept (of, id, what, n)
select 'event', event_id, state, count(*)
from attendance
where current
group by 2, 3;

-- What a desk is put together from is read from indexes alone.
create index handoff_desk on handoff (clock_from, id) include (person_id, rep_id) where state = 'open';
create index task_alerts on task (made_at, id) include (user_id, team_id, shown_at) where done_at is null and alert;
create index task_desk on task (made_at, id) include (person_id, user_id, team_id, shown_at)
    where done_at is null and not alert;

-- +goose Down
drop index task_desk;
drop index task_alerts;
drop index handoff_desk;
drop trigger count_attendance_gone on attendance;
drop trigger count_attendance_changed on attendance;
drop trigger count_attendance_made on attendance;
drop function count_attendance;
delete from kept where of = 'event';
