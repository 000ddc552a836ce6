-- +goose Up
-- The account that a user's emails go out from: what is agreed about it
-- (core/mailbox) and what has gone out.
create table mailbox (
    user_id   bigint primary key references app_user on delete cascade,
    box       jsonb not null,
    used_day  text not null default '',
    used_sent int not null default 0,
    next_at   timestamptz
);

-- +goose Down
drop table mailbox;
