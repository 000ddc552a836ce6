-- +goose Up
-- Work that a lead moved from one desk to another, so that it can be taken back.
create table desk_move (
    id      bigint generated always as identity primary key,
    user_id bigint not null references app_user,
    from_id bigint references app_user,
    to_id   bigint references app_user,
    at      timestamptz not null,
    items   jsonb not null -- of each kind, which
);

-- +goose Down
drop table desk_move;
