-- +goose Up
-- What a row of a list says people agreed to, and the notes on them.
alter table import_row drop column note, add column said jsonb;

-- +goose Down
alter table import_row drop column said, add column note text;
