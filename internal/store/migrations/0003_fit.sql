-- +goose Up
-- How well somebody is the kind of person that the company sells to: conditions
-- on the record with points, and named ranges of their share.
alter table score_model add column fit jsonb not null default '[]', add column fit_bands jsonb not null default '[]';

-- +goose Down
alter table score_model drop column fit, drop column fit_bands;
