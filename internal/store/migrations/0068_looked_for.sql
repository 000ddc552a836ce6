-- +goose Up
-- The newest letters that came from people, for those who look for words that are in many.
create index incoming_newest on incoming (at desc, id desc) where person_id is not null;

-- +goose Down
drop index incoming_newest;
