-- +goose Up
-- What somebody said, beside the whole letter with what it quotes. Of letters that came before, the whole.
alter table incoming add column said text not null default '';
update incoming set said = body;

-- +goose Down
alter table incoming drop column said;
