-- +goose Up
-- Nothing asks for touches by version: every touch that is made was written into this index for nobody.
drop index touch_step;

-- +goose Down
create index touch_step on touch (version_id, step);
