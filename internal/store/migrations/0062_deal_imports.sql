-- +goose Up
-- Files of deals: what their rows came to when they were checked, what was taken of them, and what it was before.
create table deal_import (
    id        bigint generated always as identity primary key,
    user_id   bigint not null references app_user,
    at        timestamptz not null,
    file      text not null,
    state     text not null default 'checked' check (state in ('checked', 'done', 'undone')),
    counts    jsonb not null default '{}',
    rows      jsonb not null default '[]',
    problems  jsonb not null default '[]',
    opened    bigint[] not null default '{}',
    turns     jsonb not null default '[]',
    done_at   timestamptz,
    undone_at timestamptz
);
-- A deal that is gone is a change for whoever it was about.
create trigger tell_audiences_of_gone after delete on deal
    referencing old table as changed for each statement execute function tell_audiences('deal');
create trigger tell_scores_of_gone after delete on deal
    referencing old table as changed for each statement execute function tell_scores('deal');

-- +goose Down
drop trigger tell_audiences_of_gone on deal;
drop trigger tell_scores_of_gone on deal;
drop table deal_import;
