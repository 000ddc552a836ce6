-- +goose Up
-- Who asked not to be called.
alter table person add column no_calls_at timestamptz;

-- What was written with people is found by its words, each letter by those of the language it is written in.
alter table incoming add column lang regconfig not null default 'english';
alter table incoming add column words tsvector
    generated always as (to_tsvector(lang, subject || ' ' || said)) stored;
create index incoming_words on incoming using gin (words);
alter table message_version
    add column lang  regconfig not null default 'english',
    add column plain text not null default '';
update message_version v set plain = left(regexp_replace((
    select coalesce(string_agg(x #>> '{}', ' '), '') from jsonb_path_query(v.doc, 'strict $.**.text') x
    ), '<[^>]*>', ' ', 'g'), 100000)
where v.doc is not null;
alter table message_version add column words tsvector
    generated always as (to_tsvector(lang, subject || ' ' || plain)) stored;
create index message_version_words on message_version using gin (words);
-- The last that were sent of a message come first.
drop index touch_message;
create index touch_message on touch (message_id, id) where message_id is not null;

-- A secret address: what is sent to it in a hidden copy is kept with whom it is to.
alter table app_user add column copy_key text not null default '';
create unique index app_user_copy_key on app_user (copy_key) where copy_key <> '';
-- A letter that a user wrote outside, kept by its copy.
create table outside_letter (
    id        bigint generated always as identity primary key,
    mail_id   text not null,
    user_id   bigint not null references app_user,
    person_id bigint not null references person,
    at        timestamptz not null,
    subject   text not null,
    said      text not null,
    lang      regconfig not null default 'english',
    words     tsvector generated always as (to_tsvector(lang, subject || ' ' || said)) stored
);
create index outside_letter_mail on outside_letter (mail_id);
create index outside_letter_person on outside_letter (person_id, at);
create index outside_letter_words on outside_letter using gin (words);

-- +goose Down
drop table outside_letter;
alter table app_user drop column copy_key;
drop index touch_message;
create index touch_message on touch (message_id) where message_id is not null;
alter table message_version drop column words, drop column plain, drop column lang;
alter table incoming drop column words, drop column lang;
alter table person drop column no_calls_at;
