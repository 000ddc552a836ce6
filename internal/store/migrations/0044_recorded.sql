-- +goose Up
-- What happened to records while a sequence ran that is entered by that, until a worker has entered whom it lets in.
create table recorded (
    id        bigint generated always as identity primary key,
    person_id bigint not null references person on delete cascade,
    before    jsonb, -- what the changed fields were; null: the record was made
    after     jsonb not null
);
create index recorded_person on recorded (person_id);

-- +goose StatementBegin
create function entered_by_record() returns boolean language sql stable as $$
    select exists (
        select
        from sequence q
        join sequence_version v on v.id = q.version_id
        where q.state = 'running' and v.entry ? 'record')
$$;

create function record_made() returns trigger language plpgsql as $$
begin
    if entered_by_record() then
        insert into recorded (person_id, after)
        select id, jsonb_build_object('source', source) from made order by id;
    end if;
    return null;
end $$;

create function record_changed() returns trigger language plpgsql as $$
begin
    if entered_by_record() then
        insert into recorded (person_id, before, after)
        select person_id, before, after from made where person_id is not null order by id;
    end if;
    return null;
end $$;
-- +goose StatementEnd

create trigger record_made after insert on person
    referencing new table as made for each statement execute function record_made();
create trigger record_changed after insert on change
    referencing new table as made for each statement execute function record_changed();

-- +goose Down
drop trigger record_changed on change;
drop trigger record_made on person;
drop function record_changed();
drop function record_made();
drop function entered_by_record();
drop table recorded;
