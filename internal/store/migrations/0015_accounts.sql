-- +goose Up
-- The mail server that a user's emails go out by, where it is one of their own;
-- the password is sealed with a key that is not in the database.
alter table mailbox
    add column server text not null default '',
    add column login  text not null default '',
    add column secret bytea;

-- +goose Down
alter table mailbox drop column server, drop column login, drop column secret;
