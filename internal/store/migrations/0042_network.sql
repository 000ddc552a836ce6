-- +goose Up
-- Whose social touches the network does for them, and how often on a day.
create table network_account (
    user_id bigint primary key references app_user on delete cascade,
    limits  jsonb not null default '{}'
);

-- What the network was asked to do: written down before it is asked, and asked for by the touch's number,
-- so that it is done once whatever fails.
create table errand (
    touch_id     bigint primary key references touch on delete cascade,
    user_id      bigint not null references app_user,
    what         text not null,
    begun_at     timestamptz not null,
    withdraw_at  timestamptz, -- a request that is not accepted by then is withdrawn; null: it stands
    withdrawn_at timestamptz
);
create index errand_day on errand (user_id, what, begun_at);
create index errand_withdraw on errand (withdraw_at) where withdraw_at is not null and withdrawn_at is null;

-- +goose Down
drop table errand;
drop table network_account;
