-- +goose Up
-- Own fields of companies, beside those of people.
alter table own_field add column of_company boolean not null default false;
alter table company add column own jsonb not null default '{}';
alter table import_company add column own jsonb;
-- Own fields of a company before and after an import, as they are kept: [before, after].
alter table change add column company_own jsonb;

-- +goose Down
alter table change drop column company_own;
alter table import_company drop column own;
alter table company drop column own;
delete from own_field where of_company;
alter table own_field drop column of_company;
