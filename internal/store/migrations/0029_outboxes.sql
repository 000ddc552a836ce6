-- +goose Up
-- How the letters of each account fare: 0 is the one of everybody who has none of their own. One that is refused again
-- and again is stopped until somebody has looked.
create table outbox (
    user_id    bigint primary key,
    fared      jsonb not null default '{}', -- core/mailbox.Record
    stopped_at timestamptz,
    why        text not null default ''
);

-- +goose Down
drop table outbox;
