-- +goose Up
-- A desk asks for the calls and touches that are due first, as it does for everything else on it.
create index work_desk on work (due_at, touch_id) include (kind, rep_id, team_id, ready_at, tried_at)
    where open and kind <> 'post';
-- So do the cards that wait for the printer: of all that waits they are few.
create index work_cards on work (touch_id) where open and kind = 'post';

-- +goose Down
drop index work_cards;
drop index work_desk;
