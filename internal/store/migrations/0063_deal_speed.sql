-- +goose Up
-- What lists of deals are found, summed and ordered by, so that tens of thousands of them are answered in a moment.
alter table deal disable trigger user;
alter table deal add column words text generated always as (plain_text(name)) stored;
alter table deal enable trigger user;
drop index deal_open_sums, deal_closed_sums;
create index deal_open_sums on deal (stage_id) include (worth, rated, rep_id) where closed_at is null;
create index deal_closed_sums on deal (closed_at) include (stage_id, worth, rated) where closed_at is not null;
create index deal_board on deal (stage_id, position, id) where closed_at is null;
create index deal_open_newest on deal (opened_at desc, id desc) where closed_at is null;
create index deal_open_longest on deal (moved_at, id) where closed_at is null;
create index deal_open_expected on deal ((coalesce(expected_on, 'infinity')), id) where closed_at is null;
create index deal_open_next on deal ((coalesce(next_on, 'infinity')), id) where closed_at is null;
create index deal_last_closed on deal ((coalesce(closed_at, '-infinity')) desc, id desc) where closed_at is not null;
analyze deal;

-- +goose Down
drop index deal_board, deal_open_newest, deal_open_longest, deal_open_expected, deal_open_next, deal_last_closed,
    deal_open_sums, deal_closed_sums;
create index deal_open_sums on deal (stage_id) include (worth) where closed_at is null;
create index deal_closed_sums on deal (closed_at) include (stage_id, worth) where closed_at is not null;
alter table deal drop column words;
