-- +goose Up
-- Who stands to an event, the newest first, in any state.
create index attendance_newest on attendance (event_id, id) where current;

-- +goose Down
drop index attendance_newest;
