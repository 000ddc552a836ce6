-- +goose Up
-- Models of scores lie in folders too, each with what it is for.
alter table filed drop constraint filed_kind_check;
alter table filed add constraint filed_kind_check
    check (kind in ('sequence', 'message', 'page', 'email', 'event', 'shelf', 'audience', 'model'));
alter table score_model add column note text not null default '';

-- +goose Down
alter table score_model drop column note;
delete from filed where kind = 'model';
alter table filed drop constraint filed_kind_check;
alter table filed add constraint filed_kind_check
    check (kind in ('sequence', 'message', 'page', 'email', 'event', 'shelf', 'audience'));
