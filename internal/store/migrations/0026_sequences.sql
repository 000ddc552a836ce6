-- +goose Up
-- A sequence that is over can be taken off the lists; what it did still tells of it.
alter table sequence add column removed_at timestamptz;

-- +goose Down
alter table sequence drop column removed_at;
