-- +goose Up
-- Figures that are kept as they arise: the sum of lines that whatever changes them adds, so that nobody waits for
-- anybody. What a figure is of, and which of it, is said in words.
create table kept (
    of    text not null, -- tag, mailing or sender
    id    bigint not null,
    what  text not null default '',
    n     bigint not null,
    fresh boolean not null default true -- it was not folded yet
);
create index kept_of on kept (of, id, what);
create index kept_fresh on kept (of) where fresh;

-- Of the email of a mailing: what people did with it, and what machines, by the kinds of signals as bits, which of its
-- first 62 links people pressed, as bits too, and when it was first opened and clicked by people.
alter table touch
    add column people     int not null default 0,
    add column machines   int not null default 0,
    add column pressed    bigint not null default 0,
    add column opened_at  timestamptz,
    add column clicked_at timestamptz;

-- +goose StatementBegin
create function count_tags() returns trigger language plpgsql as $$
begin
    insert into kept (of, id, n)
    select 'tag', tag_id, case tg_op when 'INSERT' then count(*) else -count(*) end
    from changed
    group by tag_id;
    return null;
end $$;

create function count_mailings() returns trigger language plpgsql as $$
begin
    if tg_op = 'INSERT' then
        insert into kept (of, id, what, n)
        select 'mailing', t.mailing_id, l.what, count(*)
        from made t, lateral (values ('is ' || t.state || ' ' || t.people || ' ' || t.machines, true),
            ('opened ' || floor(extract(epoch from t.opened_at - t.done_at) / 3600), t.opened_at >= t.done_at),
            ('clicked ' || floor(extract(epoch from t.clicked_at - t.done_at) / 3600), t.clicked_at >= t.done_at)
            union all
            select 'presser ' || b, true
            from generate_series(1, case when t.pressed = 0 then 0 else 62 end) b
            where t.pressed & (1::bigint << b) <> 0) as l(what, so)
        where t.mailing_id is not null and l.so
        group by 2, 3;
    elsif tg_op = 'DELETE' then
        insert into kept (of, id, what, n)
        select 'mailing', t.mailing_id, l.what, -count(*)
        from gone t, lateral (values ('is ' || t.state || ' ' || t.people || ' ' || t.machines, true),
            ('opened ' || floor(extract(epoch from t.opened_at - t.done_at) / 3600), t.opened_at >= t.done_at),
            ('clicked ' || floor(extract(epoch from t.clicked_at - t.done_at) / 3600), t.clicked_at >= t.done_at)
            union all
            select 'presser ' || b, true
            from generate_series(1, case when t.pressed = 0 then 0 else 62 end) b
            where t.pressed & (1::bigint << b) <> 0) as l(what, so)
        where t.mailing_id is not null and l.so
        group by 2, 3;
    else
        insert into kept (of, id, what, n)
        select 'mailing', t.mailing_id, l.what, sum(t.d)
        from (
            select m.*, 1 as d from made m where m.mailing_id is not null
            union all
            select g.*, -1 from gone g where g.mailing_id is not null) t,
            lateral (values ('is ' || t.state || ' ' || t.people || ' ' || t.machines, true),
            ('opened ' || floor(extract(epoch from t.opened_at - t.done_at) / 3600), t.opened_at >= t.done_at),
            ('clicked ' || floor(extract(epoch from t.clicked_at - t.done_at) / 3600), t.clicked_at >= t.done_at)
            union all
            select 'presser ' || b, true
            from generate_series(1, case when t.pressed = 0 then 0 else 62 end) b
            where t.pressed & (1::bigint << b) <> 0) as l(what, so)
        where l.so
        group by 2, 3
        having sum(t.d) <> 0;
    end if;
    return null;
end $$;

-- How many emails went out by whom, by day.
create function count_sent() returns trigger language plpgsql as $$
begin
    insert into kept (of, id, what, n)
    select 'sender', lt.sender_id, to_char(t.done_at, 'YYYY-MM-DD'), sum(t.d)
    from (
        select id, done_at, 1 as d from made where state = 'sent'
        union all
        select id, done_at, -1 from gone where state = 'sent') t
    join letter lt on lt.touch_id = t.id
    where lt.sender_id is not null and t.done_at is not null
    group by 2, 3
    having sum(t.d) <> 0;
    return null;
end $$;

create function count_left() returns trigger language plpgsql as $$
begin
    insert into kept (of, id, what, n)
    select 'mailing', mailing_id, 'left ' || reason, case tg_op when 'INSERT' then count(*) else -count(*) end
    from changed
    group by 2, 3;
    return null;
end $$;

-- What readers of mailings do: {open} to {complaint} of core/signal are 4 to 10, {click} is 5.
create function count_readers() returns trigger language plpgsql as $$
begin
    if not exists (select from made where touch_id is not null and sequence_id is null and kind between 4 and 10) then
        return null;
    end if;
    update touch t
    set people = t.people | a.people, machines = t.machines | a.machines, pressed = t.pressed | a.pressed,
        opened_at = least(t.opened_at, a.opened), clicked_at = least(t.clicked_at, a.clicked)
    from (
        select touch_id, coalesce(bit_or(1 << kind) filter (where machine = ''), 0) as people,
            coalesce(bit_or(1 << kind) filter (where machine <> ''), 0) as machines,
            min(at) filter (where machine = '' and kind = 4) as opened,
            min(at) filter (where machine = '' and kind = 5) as clicked,
            coalesce(bit_or(1::bigint << link) filter (where machine = '' and kind = 5 and link between 1 and 62), 0)
                as pressed
        from made
        where touch_id is not null and sequence_id is null and kind between 4 and 10
        group by 1) a
    where t.id = a.touch_id and t.mailing_id is not null
        and (a.people & ~t.people <> 0 or a.machines & ~t.machines <> 0 or a.pressed & ~t.pressed <> 0
            or a.opened < t.opened_at or a.clicked < t.clicked_at);
    insert into kept (of, id, what, n)
    select 'mailing', t.mailing_id, 'pressed ' || p.link, sum(p.n)
    from (
        select touch_id, link, count(*) as n
        from made
        where touch_id is not null and sequence_id is null and kind = 5 and machine = '' and link is not null
        group by 1, 2) p
    join touch t on t.id = p.touch_id and t.mailing_id is not null
    group by 2, 3;
    return null;
end $$;

-- Whatever is known to be a program's afterwards is taken off again.
create function count_readers_again() returns trigger language plpgsql as $$
begin
    if not exists (
        select
        from made m
        join gone g on g.id = m.id and g.at = m.at
        where m.machine <> g.machine and m.touch_id is not null and m.sequence_id is null) then
        return null;
    end if;
    update touch t
    set people = a.people, machines = a.machines, pressed = a.pressed, opened_at = a.opened, clicked_at = a.clicked
    from (
        select c.touch_id, coalesce(bit_or(1 << s.kind) filter (where s.machine = ''), 0) as people,
            coalesce(bit_or(1 << s.kind) filter (where s.machine <> ''), 0) as machines,
            min(s.at) filter (where s.machine = '' and s.kind = 4) as opened,
            min(s.at) filter (where s.machine = '' and s.kind = 5) as clicked,
            coalesce(bit_or(1::bigint << s.link) filter (
                where s.machine = '' and s.kind = 5 and s.link between 1 and 62), 0) as pressed
        from (
            select distinct m.touch_id
            from made m
            join gone g on g.id = m.id and g.at = m.at
            where m.machine <> g.machine and m.touch_id is not null and m.sequence_id is null) c
        join signal s on s.touch_id = c.touch_id and s.sequence_id is null and s.kind between 4 and 10
        group by 1) a
    where t.id = a.touch_id and t.mailing_id is not null
        and (t.people, t.machines, t.pressed, t.opened_at, t.clicked_at)
            is distinct from (a.people, a.machines, a.pressed, a.opened, a.clicked);
    insert into kept (of, id, what, n)
    select 'mailing', t.mailing_id, 'pressed ' || p.link, sum(p.n)
    from (
        select m.touch_id, m.link, sum(case when m.machine = '' then 1 else 0 end)
                - sum(case when g.machine = '' then 1 else 0 end) as n
        from made m
        join gone g on g.id = m.id and g.at = m.at
        where m.touch_id is not null and m.sequence_id is null and m.kind = 5 and m.link is not null
        group by 1, 2) p
    join touch t on t.id = p.touch_id and t.mailing_id is not null
    group by 2, 3
    having sum(p.n) <> 0;
    return null;
end $$;
-- +goose StatementEnd

update touch t
set people = a.people, machines = a.machines, pressed = a.pressed, opened_at = a.opened, clicked_at = a.clicked
from (
    select touch_id, coalesce(bit_or(1 << kind) filter (where machine = ''), 0) as people,
        coalesce(bit_or(1 << kind) filter (where machine <> ''), 0) as machines,
        min(at) filter (where machine = '' and kind = 4) as opened,
        min(at) filter (where machine = '' and kind = 5) as clicked,
        coalesce(bit_or(1::bigint << link) filter (where machine = '' and kind = 5 and link between 1 and 62), 0)
            as pressed
    from signal
    where touch_id is not null and sequence_id is null and kind between 4 and 10
    group by 1) a
where t.id = a.touch_id and t.mailing_id is not null;
insert into kept (of, id, what, n)
select 'mailing', t.mailing_id, l.what, count(*)
from touch t,
    lateral (values ('is ' || t.state || ' ' || t.people || ' ' || t.machines, true),
        ('opened ' || floor(extract(epoch from t.opened_at - t.done_at) / 3600), t.opened_at >= t.done_at),
        ('clicked ' || floor(extract(epoch from t.clicked_at - t.done_at) / 3600), t.clicked_at >= t.done_at)
        union all
        select 'presser ' || b, true
        from generate_series(1, case when t.pressed = 0 then 0 else 62 end) b
        where t.pressed & (1::bigint << b) <> 0) as l(what, so)
where t.mailing_id is not null and l.so
group by 2, 3;
insert into kept (of, id, what, n)
select 'mailing', mailing_id, 'left ' || reason, count(*)
from mailing_left
group by 2, 3;
insert into kept (of, id, what, n)
select 'mailing', t.mailing_id, 'pressed ' || p.link, sum(p.n)
from (
    select touch_id, link, count(*) as n
    from signal
    where touch_id is not null and sequence_id is null and kind = 5 and machine = '' and link is not null
    group by 1, 2) p
join touch t on t.id = p.touch_id and t.mailing_id is not null
group by 2, 3;
insert into kept (of, id, what, n)
select 'sender', lt.sender_id, to_char(t.done_at, 'YYYY-MM-DD'), count(*)
from touch t
join letter lt on lt.touch_id = t.id
where t.state = 'sent' and t.done_at is not null and lt.sender_id is not null
group by 2, 3;
-- {bounce} and {complaint} of core/signal: few of all, and asked for of all mailboxes.
create index signal_failed on signal (at) where kind in (9, 10);
insert into kept (of, id, n)
select 'tag', tag_id, count(*)
from person_tag
group by 2;
create index person_tag_last on person_tag (tag_id, at);

create trigger count_tags_put after insert on person_tag
    referencing new table as changed for each statement execute function count_tags();
create trigger count_tags_taken after delete on person_tag
    referencing old table as changed for each statement execute function count_tags();
create trigger count_mailings_made after insert on touch
    referencing new table as made for each statement execute function count_mailings();
create trigger count_mailings_changed after update on touch
    referencing new table as made old table as gone for each statement execute function count_mailings();
create trigger count_mailings_gone after delete on touch
    referencing old table as gone for each statement execute function count_mailings();
create trigger count_sent after update on touch
    referencing new table as made old table as gone for each statement execute function count_sent();
create trigger count_left_put after insert on mailing_left
    referencing new table as changed for each statement execute function count_left();
create trigger count_left_taken after delete on mailing_left
    referencing old table as changed for each statement execute function count_left();
create trigger count_readers after insert on signal
    referencing new table as made for each statement execute function count_readers();
create trigger count_readers_again after update on signal
    referencing new table as made old table as gone for each statement execute function count_readers_again();

-- +goose Down
drop trigger count_readers_again on signal;
drop trigger count_readers on signal;
drop trigger count_left_taken on mailing_left;
drop trigger count_left_put on mailing_left;
drop trigger count_sent on touch;
drop trigger count_mailings_gone on touch;
drop trigger count_mailings_changed on touch;
drop trigger count_mailings_made on touch;
drop trigger count_tags_taken on person_tag;
drop trigger count_tags_put on person_tag;
drop index person_tag_last;
drop function count_readers_again;
drop function count_readers;
drop function count_left;
drop function count_sent;
drop index signal_failed;
drop function count_mailings;
drop function count_tags;
alter table touch
    drop column clicked_at, drop column opened_at, drop column machines,
    drop column people, drop column pressed;
drop table kept;
