-- +goose Up
-- Whom a letter is to come from, whatever its message says; null: from whom that says.
alter table letter add column from_id bigint references app_user;

-- +goose Down
alter table letter drop column from_id;
