-- +goose Up
-- What a map shows is kept, and not counted at each look: how many are at each step, took each
-- exit, got and did what. Whatever changes one of them adds a line in the same statement, which
-- waits for nobody; a sum of lines is the figure, and now and then they are folded into one.
create table flow_count (
    sequence_id bigint not null,
    step        int not null,
    -- here, passed, a state of a touch, or what was done in answer to it; of the whole sequence, at step 0: entered,
    -- ended.
    what        text not null,
    exit        text not null default '',
    reason      text not null default '',
    n           bigint not null
);
create index flow_count_sequence on flow_count (sequence_id);

-- What somebody did in answer to a touch, machines left out.
alter table touch
    add column opened boolean not null default false,
    add column clicked boolean not null default false,
    add column replied boolean not null default false;

-- +goose StatementBegin
create function count_here() returns trigger language plpgsql as $$
begin
    if tg_op = 'INSERT' then
        insert into flow_count (sequence_id, step, what, reason, n)
        select e.sequence_id, w.step, w.what, w.reason, count(*)
        from made e, lateral (values (e.step, 'here', '', e.ended_at is null), (0, 'entered', '', true),
            (0, 'ended', e.reason, e.ended_at is not null)) as w(step, what, reason, so)
        where w.so
        group by 1, 2, 3, 4;
    elsif tg_op = 'DELETE' then
        insert into flow_count (sequence_id, step, what, reason, n)
        select e.sequence_id, w.step, w.what, w.reason, -count(*)
        from gone e, lateral (values (e.step, 'here', '', e.ended_at is null), (0, 'entered', '', true),
            (0, 'ended', e.reason, e.ended_at is not null)) as w(step, what, reason, so)
        where w.so
        group by 1, 2, 3, 4;
    else
        insert into flow_count (sequence_id, step, what, reason, n)
        select sequence_id, step, what, reason, sum(d)
        from (
            select sequence_id, step, 'here' as what, '' as reason, 1 as d from made where ended_at is null
            union all select sequence_id, step, 'here', '', -1 from gone where ended_at is null
            union all select sequence_id, 0, 'ended', reason, 1 from made where ended_at is not null
            union all select sequence_id, 0, 'ended', reason, -1 from gone where ended_at is not null) x
        group by 1, 2, 3, 4
        having sum(d) <> 0;
    end if;
    return null;
end $$;

create function count_passed() returns trigger language plpgsql as $$
begin
    if tg_op = 'INSERT' then
        insert into flow_count (sequence_id, step, what, exit, reason, n)
        select v.sequence_id, l.step, 'passed', l.exit, l.reason, l.n
        from (select version_id, step, exit, reason, count(*) as n from made group by 1, 2, 3, 4) l
        join sequence_version v on v.id = l.version_id;
    elsif tg_op = 'DELETE' then
        insert into flow_count (sequence_id, step, what, exit, reason, n)
        select v.sequence_id, l.step, 'passed', l.exit, l.reason, -l.n
        from (select version_id, step, exit, reason, count(*) as n from gone group by 1, 2, 3, 4) l
        join sequence_version v on v.id = l.version_id;
    else
        insert into flow_count (sequence_id, step, what, exit, reason, n)
        select v.sequence_id, l.step, 'passed', l.exit, l.reason, l.n
        from (
            select version_id, step, exit, reason, sum(d) as n
            from (
                select version_id, step, exit, reason, 1 as d from made
                union all select version_id, step, exit, reason, -1 from gone) x
            group by 1, 2, 3, 4
            having sum(d) <> 0) l
        join sequence_version v on v.id = l.version_id;
    end if;
    return null;
end $$;

create function count_touches() returns trigger language plpgsql as $$
begin
    if tg_op = 'INSERT' then
        insert into flow_count (sequence_id, step, what, n)
        select t.sequence_id, t.step, w.what, count(*)
        from made t, lateral (values (t.state, true), ('opened', t.opened), ('clicked', t.clicked),
            ('replied', t.replied)) as w(what, so)
        where t.sequence_id is not null and w.so
        group by 1, 2, 3;
    elsif tg_op = 'DELETE' then
        insert into flow_count (sequence_id, step, what, n)
        select t.sequence_id, t.step, w.what, -count(*)
        from gone t, lateral (values (t.state, true), ('opened', t.opened), ('clicked', t.clicked),
            ('replied', t.replied)) as w(what, so)
        where t.sequence_id is not null and w.so
        group by 1, 2, 3;
    else
        insert into flow_count (sequence_id, step, what, n)
        select x.sequence_id, x.step, w.what, sum(x.d)
        from (select m.*, 1 as d from made m union all select g.*, -1 from gone g) x,
            lateral (values (x.state, true), ('opened', x.opened), ('clicked', x.clicked), ('replied', x.replied))
            as w(what, so)
        where x.sequence_id is not null and w.so
        group by 1, 2, 3
        having sum(x.d) <> 0;
    end if;
    return null;
end $$;

-- {open}, {click} and {reply} of core/signal.
create function count_answers() returns trigger language plpgsql as $$
begin
    update touch t
    set opened = t.opened or a.opened, clicked = t.clicked or a.clicked, replied = t.replied or a.replied
    from (
        select touch_id, bool_or(kind = 4) as opened, bool_or(kind = 5) as clicked, bool_or(kind = 6) as replied
        from made
        where touch_id is not null and machine = '' and kind in (4, 5, 6)
        group by 1) a
    where t.id = a.touch_id and t.sequence_id is not null
        and (a.opened and not t.opened or a.clicked and not t.clicked or a.replied and not t.replied);
    return null;
end $$;

-- Whatever is known to be a program's afterwards is taken off again.
create function count_answers_again() returns trigger language plpgsql as $$
begin
    update touch t
    set opened = a.opened, clicked = a.clicked, replied = a.replied
    from (
        select c.touch_id, coalesce(bool_or(s.kind = 4), false) as opened,
            coalesce(bool_or(s.kind = 5), false) as clicked, coalesce(bool_or(s.kind = 6), false) as replied
        from (
            select distinct m.touch_id, m.person_id
            from made m join gone g on g.id = m.id and g.at = m.at
            where m.machine <> g.machine and m.touch_id is not null) c
        left join signal s on s.touch_id = c.touch_id and s.person_id = c.person_id and s.machine = ''
            and s.kind in (4, 5, 6)
        group by 1) a
    where t.id = a.touch_id and t.sequence_id is not null
        and (t.opened, t.clicked, t.replied) is distinct from (a.opened, a.clicked, a.replied);
    return null;
end $$;
-- +goose StatementEnd

update touch t
set opened = a.opened, clicked = a.clicked, replied = a.replied
from (
    select touch_id, bool_or(kind = 4) as opened, bool_or(kind = 5) as clicked, bool_or(kind = 6) as replied
    from signal
    where touch_id is not null and machine = '' and kind in (4, 5, 6)
    group by 1) a
where t.id = a.touch_id and t.sequence_id is not null;

insert into flow_count (sequence_id, step, what, reason, n)
select e.sequence_id, w.step, w.what, w.reason, count(*)
from enrolment e, lateral (values (e.step, 'here', '', e.ended_at is null), (0, 'entered', '', true),
    (0, 'ended', e.reason, e.ended_at is not null)) as w(step, what, reason, so)
where w.so
group by 1, 2, 3, 4;
insert into flow_count (sequence_id, step, what, exit, reason, n)
select v.sequence_id, l.step, 'passed', l.exit, l.reason, count(*)
from enrolment_log l join sequence_version v on v.id = l.version_id
group by 1, 2, 4, 5;
insert into flow_count (sequence_id, step, what, n)
select t.sequence_id, t.step, w.what, count(*)
from touch t, lateral (values (t.state, true), ('opened', t.opened), ('clicked', t.clicked), ('replied', t.replied))
    as w(what, so)
where t.sequence_id is not null and w.so
group by 1, 2, 3;

create trigger count_made after insert on enrolment
    referencing new table as made for each statement execute function count_here();
create trigger count_moved after update on enrolment
    referencing new table as made old table as gone for each statement execute function count_here();
create trigger count_gone after delete on enrolment
    referencing old table as gone for each statement execute function count_here();
create trigger count_made after insert on enrolment_log
    referencing new table as made for each statement execute function count_passed();
create trigger count_changed after update on enrolment_log
    referencing new table as made old table as gone for each statement execute function count_passed();
create trigger count_gone after delete on enrolment_log
    referencing old table as gone for each statement execute function count_passed();
create trigger count_made after insert on touch
    referencing new table as made for each statement execute function count_touches();
create trigger count_changed after update on touch
    referencing new table as made old table as gone for each statement execute function count_touches();
create trigger count_gone after delete on touch
    referencing old table as gone for each statement execute function count_touches();
create trigger count_answers after insert on signal
    referencing new table as made for each statement execute function count_answers();
create trigger count_answers_again after update on signal
    referencing new table as made old table as gone for each statement execute function count_answers_again();

-- +goose Down
drop trigger count_answers_again on signal;
drop trigger count_answers on signal;
drop trigger count_gone on touch;
drop trigger count_changed on touch;
drop trigger count_made on touch;
drop trigger count_gone on enrolment_log;
drop trigger count_changed on enrolment_log;
drop trigger count_made on enrolment_log;
drop trigger count_gone on enrolment;
drop trigger count_moved on enrolment;
drop trigger count_made on enrolment;
drop function count_answers_again();
drop function count_answers();
drop function count_touches();
drop function count_passed();
drop function count_here();
alter table touch drop column replied, drop column clicked, drop column opened;
drop table flow_count;
