-- +goose Up
-- That somebody held everything at once: it can be taken back for exactly what it held.
create table hold_all (
    id        bigint generated always as identity primary key,
    at        timestamptz not null,
    by_id     bigint references app_user,
    undone_at timestamptz
);
alter table sequence add column hold_id bigint references hold_all;
alter table mailing add column hold_id bigint references hold_all;

-- +goose Down
alter table mailing drop column hold_id;
alter table sequence drop column hold_id;
drop table hold_all;
