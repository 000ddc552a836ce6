package store

import (
	"context"
	"time"

	"ombak/internal/core/sequence"
)

// WaysOn takes the open enrolments of people in a sequence, waiting for those a worker
// has.
func (tx Tx) WaysOn(ctx context.Context, sequenceID int64, people []int64) ([]int64, error) {
	return all[int64](ctx, tx, `
		select id
		from enrolment
		where sequence_id = $1 and person_id = any ($2) and ended_at is null
		order by id
		for update`, sequenceID, people)
}

// never is when a letter is ready that waits for somebody to be let go on.
var never = time.Date(9000, 1, 1, 0, 0, 0, 0, time.UTC)

// HoldWays holds enrolments where they are, with what was to go out for them.
func (tx Tx) HoldWays(ctx context.Context, ways []int64) (int64, error) {
	if _, err := exec(ctx, tx, `
		update letter l
		set ready_at = $2
		from touch t
		where t.id = l.touch_id and t.enrolment_id = any ($1) and l.phase = 'waiting'`, ways, never); err != nil {
		return 0, err
	}
	return exec(ctx, tx, "update enrolment set held = true, look = null where id = any ($1) and not held", ways)
}

// LetWaysGo lets enrolments go on that are held.
func (tx Tx) LetWaysGo(ctx context.Context, ways []int64, at time.Time) (int64, error) {
	if _, err := exec(ctx, tx, `
		update letter l
		set ready_at = $3
		from touch t
		where t.id = l.touch_id and t.enrolment_id = any ($1) and l.phase = 'waiting' and l.ready_at = $2`, ways, never,
		at); err != nil {
		return 0, err
	}
	return exec(ctx, tx, "update enrolment set held = false, look = $2 where id = any ($1) and held", ways, at)
}

// MovedByHand stands in the log beside the step from which somebody was moved.
const MovedByHand = "moved by hand"

// MoveWays moves enrolments to a step of the version they are on, as of an instant, and
// logs from where. Those whose version has no such step stay where they are, and those
// who have got its email: nobody gets it twice.
func (tx Tx) MoveWays(ctx context.Context, ways []int64, step sequence.StepID, at time.Time) (int64, error) {
	return exec(ctx, tx, `
		with there as (
			select e.id, e.version_id, e.step
			from enrolment e
			join sequence_version v on v.id = e.version_id
			where e.id = any ($1) and v.plan->'steps' @> jsonb_build_array(jsonb_build_object('id', $2::int))
				and not exists (
					select from touch t
					where t.enrolment_id = e.id and t.step = $2 and t.kind = 'email' and t.state in ('sent', 'held'))),
		logged as (
			insert into enrolment_log (enrolment_id, version_id, step, at, exit, reason)
			select id, version_id, step, $3, $4, $4 from there)
		update enrolment e
		set step = $2, phase = 0, reached_at = $3, due = $3, look = case when e.held then null else $3::timestamptz end,
			visit = coalesce((select max(t.visit) + 1 from touch t where t.enrolment_id = e.id and t.step = $2), 1)
		from there
		where e.id = there.id`, ways, int32(step), at, MovedByHand)
}
