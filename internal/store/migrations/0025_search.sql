-- +goose Up
-- Words are found anywhere in a name, without their accents.
create extension if not exists pg_trgm;
create extension if not exists unaccent;

-- unaccent says that it is stable, because somebody could change its dictionary; nobody does.
create function plain_text(text) returns text language sql immutable strict parallel safe
    return lower(unaccent('unaccent'::regdictionary, $1));

-- Kept, and not only indexed: a row that is looked at costs a twentieth of taking its accents off.
alter table company add column words text generated always as (plain_text(name || ' ' || domain)) stored;
create index company_words on company using gin (words gin_trgm_ops);
analyze company;

-- What people are found by: their names and address and those of their company, side by side, so that one index answers
-- several words at once, and in rows so narrow that thousands of them are read in a moment. Each word follows a space.
create table person_search (
    person_id  bigint primary key references person on delete cascade,
    -- As the order of names has them, so that they need not be fetched to be sorted.
    last_name  text not null collate "C",
    first_name text not null collate "C",
    words      text not null
);
-- The planner says how many have a word from examples: with more of them it knows words that one in a thousand has.
alter table person_search alter column words set statistics 1000;

create function search_words(first_name text, last_name text, email text, company text, domain text) returns text
    language sql immutable parallel safe
    return plain_text(' ' || first_name || ' ' || last_name || ' ' || email || ' ' || coalesce(company, '') || ' '
        || coalesce(domain, ''));

insert into person_search select p.id, lower(p.last_name collate "C"), lower(p.first_name collate "C"),
        search_words(p.first_name, p.last_name, p.email, c.name, c.domain)
    from person p left join company c on c.id = p.company_id;
create index person_search_words on person_search using gin (words gin_trgm_ops);
analyze person_search;

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

-- A person who comes to the company meanwhile holds a share of its row: for update waits until they are there to
-- be seen.
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

-- +goose Down
drop trigger search_company on company;
drop trigger search_person on person;
drop trigger search_new_people on person;
drop function search_company();
drop function search_person();
drop function search_new_people();
drop table person_search;
drop function search_words(text, text, text, text, text);
alter table company drop column words;
drop function plain_text(text);
drop extension unaccent;
drop extension pg_trgm;
