-- +goose Up
-- Companies in the order in which they are offered to whoever looks for words: what many have in their names is found
-- among the first of them.
create index company_offered on company (size desc, id desc);

-- +goose Down
drop index company_offered;
