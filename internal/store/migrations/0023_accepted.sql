-- +goose Up
-- What accepting a handoff did besides opening a deal, so that it can be taken back.
create table accepted (
    handoff_id bigint primary key references handoff on delete cascade,
    deal_id    bigint not null references deal on delete cascade,
    fresh      boolean not null, -- the deal was opened by it
    ways       jsonb not null    -- the enrolments it ended, each with when its step had been due
);

-- +goose Down
drop table accepted;
