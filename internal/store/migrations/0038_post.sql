-- +goose Up
-- Where a card reaches somebody.
alter table person add column street text not null default '', add column postcode text not null default '';
alter table import_row add column street text, add column postcode text;

-- +goose Down
alter table import_row drop column postcode, drop column street;
alter table person drop column postcode, drop column street;
