-- +goose Up
-- What a sequence is for, in words.
alter table sequence add column note text not null default '';

-- +goose Down
alter table sequence drop column note;
