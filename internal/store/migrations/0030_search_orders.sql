-- +goose Up
-- What a list of people is put in order by stands beside the words they are found by: thousands who have a word
-- are then
-- put in order as they are read, without a look at any other table.
drop trigger search_company on company;
drop trigger search_person on person;
drop trigger search_new_people on person;
drop function search_company();
drop function search_person();
drop function search_new_people();
drop table person_search;

create table person_search (
    person_id  bigint primary key references person on delete cascade,
    last_name  text not null collate "C", -- as the order of names has them
    first_name text not null collate "C",
    email      text not null,
    company_id bigint,
    company    text not null,
    score      double precision not null, -- by the model that lists show
    words      text not null
) with (fillfactor = 85); -- scores change: a row that changes stays on its page, and no index hears of it
alter table person_search alter column words set statistics 1000;

-- What is kept of each person.
create view person_sought as
    select p.id as person_id, lower(p.last_name collate "C") as last_name,
    	lower(p.first_name collate "C") as first_name,
        p.email, p.company_id, coalesce(lower(c.name), '') as company, coalesce(s.score, 0) as score,
        search_words(p.first_name, p.last_name, p.email, c.name, c.domain) as words
    from person p
    left join company c on c.id = p.company_id
    left join standing s on s.person_id = p.id and s.model_id = (select min(id) from score_model)
    where p.erased_at is null;

insert into person_search select * from person_sought;
create index person_search_words on person_search using gin (words gin_trgm_ops);
analyze person_search;

-- +goose StatementBegin
create function search_new_people() returns trigger language plpgsql as $$
begin
    insert into person_search select x.* from met m join person_sought x on x.person_id = m.id;
    return null;
end $$;
-- +goose StatementEnd
create trigger search_new_people after insert on person referencing new table as met
    for each statement execute function search_new_people();

-- +goose StatementBegin
create function search_person() returns trigger language plpgsql as $$
begin
    if new.erased_at is not null then
        delete from person_search where person_id = new.id;
    else
        update person_search s set last_name = x.last_name, first_name = x.first_name, email = x.email,
                company_id = x.company_id, company = x.company, words = x.words
            from person_sought x where x.person_id = new.id and s.person_id = new.id;
    end if;
    return null;
end $$;
-- +goose StatementEnd
create trigger search_person after update of first_name, last_name, email, company_id, erased_at on person
    for each row when ((old.first_name, old.last_name, old.email, old.company_id, old.erased_at)
        is distinct from (new.first_name, new.last_name, new.email, new.company_id, new.erased_at))
    execute function search_person();

-- A person who comes to the company meanwhile holds a share of its row: for update waits until they are there to
-- be seen.
-- Rows are held in the order of their ids, as those that keep scores hold them: nobody waits in a circle.
-- +goose StatementBegin
create function search_company() returns trigger language plpgsql as $$
begin
    perform from company where id = new.id for update;
    perform from person_search s join person p on p.id = s.person_id where p.company_id = new.id
        order by s.person_id for update of s;
    update person_search s set company = lower(new.name),
            words = search_words(p.first_name, p.last_name, p.email, new.name, new.domain)
        from person p where p.company_id = new.id and s.person_id = p.id;
    return null;
end $$;
-- +goose StatementEnd
create trigger search_company after update of name, domain on company
    for each row when ((old.name, old.domain) is distinct from (new.name, new.domain))
    execute function search_company();

-- +goose StatementBegin
create function search_scores() returns trigger language plpgsql as $$
declare
    model bigint := (select min(id) from score_model);
begin
    perform from person_search s join changed n on n.person_id = s.person_id
        where n.model_id = model and s.score <> n.score order by s.person_id for update of s;
    update person_search s set score = n.score from changed n
        where n.model_id = model and s.person_id = n.person_id and s.score <> n.score;
    return null;
end $$;
-- +goose StatementEnd
create trigger search_scores_of_new after insert on standing referencing new table as changed
    for each statement execute function search_scores();
create trigger search_scores after update on standing referencing new table as changed
    for each statement execute function search_scores();

-- +goose Down
drop trigger search_scores on standing;
drop trigger search_scores_of_new on standing;
drop trigger search_company on company;
drop trigger search_person on person;
drop trigger search_new_people on person;
drop function search_scores();
drop function search_company();
drop function search_person();
drop function search_new_people();
drop view person_sought;
drop table person_search;

create table person_search (
    person_id  bigint primary key references person on delete cascade,
    last_name  text not null collate "C",
    first_name text not null collate "C",
    words      text not null
);
alter table person_search alter column words set statistics 1000;
insert into person_search select p.id, lower(p.last_name collate "C"), lower(p.first_name collate "C"),
        search_words(p.first_name, p.last_name, p.email, c.name, c.domain)
    from person p left join company c on c.id = p.company_id;
create index person_search_words on person_search using gin (words gin_trgm_ops);
-- +goose StatementBegin
create function search_new_people() returns trigger language plpgsql as $$
begin
    insert into person_search select p.id, lower(p.last_name collate "C"), lower(p.first_name collate "C"),
        search_words(p.first_name, p.last_name, p.email, c.name, c.domain)
        from met p left join company c on c.id = p.company_id;
    return null;
end $$;
-- +goose StatementEnd
create trigger search_new_people after insert on person referencing new table as met
    for each statement execute function search_new_people();
-- +goose StatementBegin
create function search_person() returns trigger language plpgsql as $$
begin
    update person_search s
    set last_name = lower(new.last_name collate "C"), first_name = lower(new.first_name collate "C"),
            words = search_words(new.first_name, new.last_name, new.email, c.name, c.domain)
        from (select 1) one left join company c on c.id = new.company_id where s.person_id = new.id;
    return null;
end $$;
-- +goose StatementEnd
create trigger search_person after update of first_name, last_name, email, company_id on person
    for each row when ((old.first_name, old.last_name, old.email, old.company_id)
        is distinct from (new.first_name, new.last_name, new.email, new.company_id))
    execute function search_person();
-- +goose StatementBegin
create function search_company() returns trigger language plpgsql as $$
begin
    perform from company where id = new.id for update;
    update person_search s set words = search_words(p.first_name, p.last_name, p.email, new.name, new.domain)
        from person p where p.company_id = new.id and s.person_id = p.id;
    return null;
end $$;
-- +goose StatementEnd
create trigger search_company after update of name, domain on company
    for each row when ((old.name, old.domain) is distinct from (new.name, new.domain))
    execute function search_company();
