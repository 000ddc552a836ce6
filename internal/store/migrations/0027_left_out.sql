-- +goose Up
-- A row that was taken, but for a value in it that could not be read.
alter table import_reject add column taken boolean not null default false;

-- +goose Down
delete from import_reject where taken;
alter table import_reject drop column taken;
