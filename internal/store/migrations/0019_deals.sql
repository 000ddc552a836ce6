-- +goose Up
-- What changed of a deal besides its stage, and by whom.
create table deal_change (
    id      bigint generated always as identity primary key,
    deal_id bigint not null references deal on delete cascade,
    at      timestamptz not null,
    user_id bigint references app_user,
    what    text not null check (what in ('amount', 'owner')),
    was     text not null,
    became  text not null
);
create index deal_change_deal on deal_change (deal_id);

-- +goose Down
drop table deal_change;
