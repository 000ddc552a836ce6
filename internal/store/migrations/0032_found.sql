-- +goose Up
-- What is asked for by what it belongs to: at a million people each of these read a whole table.
create index touch_message on touch (message_id) where message_id is not null;
create index touch_sequence on touch (sequence_id, step) where sequence_id is not null;
create index deal_company on deal (company_id) where closed_at is null;

-- +goose Down
drop index deal_company, touch_sequence, touch_message;
