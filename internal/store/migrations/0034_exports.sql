-- +goose Up
-- The file that an export writes as work of its own, in pieces, until it is forgotten.
create table export_piece (
    batch_id bigint not null references batch on delete cascade,
    n        int not null,
    data     bytea not null,
    primary key (batch_id, n)
);
alter table export_piece alter column data set storage external; -- it is written and read once: no time for packing

-- How many emails went out on each day, and lately from each account.
create index touch_sent on touch (done_at) where state = 'sent';

-- +goose Down
drop index touch_sent;
drop table export_piece;
