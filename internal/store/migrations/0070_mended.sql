-- +goose Up
-- What was found of figures that are kept when they were held against all they are of: how many lines of one kind were
-- not what counting gave, and the first of them. It is told to admins.
create table mending (
    id     bigint generated always as identity primary key,
    at     timestamptz not null,
    figure text not null,
    lines  bigint not null,
    first  jsonb not null -- [{of, what, was, became}]
);

-- +goose Down
drop table mending;
