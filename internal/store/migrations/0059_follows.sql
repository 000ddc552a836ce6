-- +goose Up
-- What follows from a score that comes to a level.
alter table score_model add column follows jsonb not null default '[]';

-- +goose Down
alter table score_model drop column follows;
