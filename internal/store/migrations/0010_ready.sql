-- +goose Up
-- What is ready, in the order in which it is claimed: of sequences and of
-- one-off emails apart, so that neither is looked through for the other.
drop index touch_ready;
create index touch_ready on touch (ready_at, id) where state = 'ready' and mailing_id is null;
create index touch_ready_mailing on touch (ready_at, id) where state = 'ready' and mailing_id is not null;
create index person_away on person (away_until) where away_until is not null;

-- +goose Down
drop index person_away, touch_ready_mailing, touch_ready;
create index touch_ready on touch (ready_at) where state = 'ready';
