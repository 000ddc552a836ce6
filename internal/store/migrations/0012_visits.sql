-- +goose Up
-- Sites of our own whose visits are recorded, by their origin.
create table site (
    origin   text primary key,
    added_at timestamptz not null
);

-- Browsers that agreed, and whose they are once that is known.
create table visitor (
    id        text primary key,
    person_id bigint references person on delete set null,
    first_at  timestamptz not null,
    seen_at   timestamptz not null
);
create index visitor_person on visitor (person_id) where person_id is not null;

-- Page views of browsers that nobody is known by yet; they become signals when
-- somebody is.
create table visit (
    id         bigint generated always as identity primary key,
    visitor_id text not null references visitor on delete cascade,
    at         timestamptz not null,
    url        text not null
);
create index visit_visitor on visit (visitor_id, at);

-- +goose Down
drop table visit, visitor, site;
