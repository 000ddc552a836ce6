-- +goose Up
-- Whoever is lost comes back to nurture after a while: a stage that means lost says into which sequence. Why a deal was
-- won or lost, and its coming back.
alter table stage
    add column nurture_id   bigint references sequence,
    add column nurture_days int not null default 90;
alter table deal
    add column reason      text not null default '',
    add column comeback_id bigint references comeback on delete set null;
alter table deal_change drop constraint deal_change_what_check;
alter table deal_change add constraint deal_change_what_check
    check (what in ('amount', 'owner', 'name', 'expected', 'next step', 'next on', 'reason'));

-- +goose Down
delete from deal_change where what = 'reason';
alter table deal_change drop constraint deal_change_what_check;
alter table deal_change add constraint deal_change_what_check
    check (what in ('amount', 'owner', 'name', 'expected', 'next step', 'next on'));
alter table deal drop column reason, drop column comeback_id;
alter table stage drop column nurture_id, drop column nurture_days;
