-- +goose Up
-- Alerts come at once, or bundled as their receiver chooses.
alter table app_user add column alerts text not null default 'at once'
    check (alerts in ('at once', 'hourly', 'at nine'));
alter table task add column shown_at timestamptz;
update task set shown_at = made_at;
alter table task alter column shown_at set not null;

-- +goose Down
alter table task drop column shown_at;
alter table app_user drop column alerts;
