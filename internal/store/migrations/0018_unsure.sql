-- +goose Up
-- A letter that names nobody but by an address anybody can write: somebody looks whether it is theirs.
alter table incoming
    add column unsure    boolean not null default false,
    add column sorted    text not null default '' check (sorted in ('', 'theirs', 'not theirs')),
    add column sorted_at timestamptz,
    add column sorted_by bigint references app_user;
create index incoming_unsure on incoming (at) where unsure and sorted = '';

-- Until then nothing of a sequence or a one-off email goes out to whom an answer may be from.
alter table person add column held_at timestamptz;
create index person_held on person (id) where held_at is not null;

-- +goose Down
alter table person drop column held_at;
drop index incoming_unsure;
alter table incoming drop column unsure, drop column sorted, drop column sorted_at, drop column sorted_by;
