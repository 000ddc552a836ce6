-- +goose Up
-- Points that a step gives are a signal of a kind of its own, which says how many.
alter table signal add column worth int;

-- +goose Down
alter table signal drop column worth;
