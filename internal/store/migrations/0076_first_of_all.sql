-- +goose Up
-- Who owns people at a company is counted wherever somebody is handed over: of the largest from this alone.
create index person_company_owner on person (company_id, owner_id) where owner_id is not null and erased_at is null;
-- What is to be answered stands on a desk by when that is due, and all that is asked of it stands here.
create index incoming_desk on incoming ((coalesce(due_at, at)), id) include (due_at, at, rep_id, person_id)
    where answer = '' and kind in (6, 14) and person_id is not null;
drop index incoming_open;
-- What of a pool somebody has taken is little of all that is said of items.
create index desk_item_taken on desk_item (kind, item_id) include (taken_by, taken_until) where taken_by is not null;

-- +goose Down
drop index desk_item_taken;
create index incoming_open on incoming (due_at, id) where answer = '' and kind in (6, 14) and person_id is not null;
drop index incoming_desk;
drop index person_company_owner;
