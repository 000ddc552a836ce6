-- +goose Up
-- When a deal is expected to be won, and what is done next for it.
alter table deal
    add column expected_on date,
    add column next_step   text not null default '',
    add column next_on     date;
create index deal_open_amount on deal (amount desc, id) where closed_at is null;
alter table deal_change drop constraint deal_change_what_check;
alter table deal_change add constraint deal_change_what_check
    check (what in ('amount', 'owner', 'name', 'expected', 'next step', 'next on'));

-- +goose Down
delete from deal_change where what not in ('amount', 'owner');
alter table deal_change drop constraint deal_change_what_check;
alter table deal_change add constraint deal_change_what_check check (what in ('amount', 'owner'));
drop index deal_open_amount;
alter table deal drop column expected_on, drop column next_step, drop column next_on;
