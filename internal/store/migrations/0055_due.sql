-- +goose Up
-- What a piece of work is and when it is due, where it stands itself: a desk of thousands picks
-- what is due first without asking what each belongs to. That a step gives up later or earlier than
-- it meant to is still told by its enrolment, for those that are picked.
alter table work add column kind text, add column due_at timestamptz;
update work w
set kind = t.kind, due_at = coalesce(e.due, w.ready_at + interval '7 days')
from touch t
left join enrolment e on e.id = t.enrolment_id and e.step = t.step and e.visit = t.visit and e.phase = 2
    and e.ended_at is null
where t.id = w.touch_id;
alter table work alter column kind set not null, alter column due_at set not null;

-- +goose Down
alter table work drop column kind, drop column due_at;
