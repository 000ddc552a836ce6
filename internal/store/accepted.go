package store

import (
	"context"
	"time"

	"ombak/internal/core/sequence"
)

// Accepted is what accepting a handoff did.
type Accepted struct {
	Handoff int64 `db:"handoff_id"`
	Deal    int64 `db:"deal_id"`
	Fresh   bool  // it opened the deal
	Joined  bool  // they take part in one that was open
	Ways    JSON[[]OpenWay]
}

// OpenWay is an enrolment that somebody was on, and when its step was due.
type OpenWay struct {
	ID  int64      `json:"id"`
	Due *time.Time `json:"due,omitempty"`
}

// OpenWays lists the enrolments a person is on.
func (tx Tx) OpenWays(ctx context.Context, person int64) ([]OpenWay, error) {
	return all[OpenWay](ctx, tx,
		"select id, due from enrolment where person_id = $1 and ended_at is null order by id for update", person)
}

// KeepAccepted keeps what accepting a handoff did.
func (tx Tx) KeepAccepted(ctx context.Context, a Accepted) error {
	_, err := exec(ctx, tx, `
		insert into accepted (handoff_id, deal_id, fresh, joined, ways)
		values ($1, $2, $3, $4, $5)`, a.Handoff, a.Deal, a.Fresh, a.Joined, a.Ways)
	return err
}

// TakeAccepted takes what accepting a handoff did, so that nobody else can. It
// answers ErrNotFound where that was done, or the handoff was not accepted.
func (tx Tx) TakeAccepted(ctx context.Context, handoff int64) (Accepted, error) {
	return one[Accepted](ctx, tx,
		"delete from accepted where handoff_id = $1 returning handoff_id, deal_id, fresh, joined, ways", handoff)
}

// RemoveFreshDeal removes a deal that nobody has touched since it was opened;
// false: somebody has.
func (tx Tx) RemoveFreshDeal(ctx context.Context, id int64) (bool, error) {
	n, err := exec(ctx, tx, `delete from deal d where d.id = $1 and d.closed_at is null and d.amount = 0
		and (select count(*) from deal_move m where m.deal_id = d.id) <= 1
		and not exists (select from deal_change c where c.deal_id = d.id)`, id)
	return n == 1, err
}

// ReopenHandoff puts a decided handoff back; false: the person has another open
// one, or a deal.
func (tx Tx) ReopenHandoff(ctx context.Context, id int64) (bool, error) {
	n, err := exec(ctx, tx, `update handoff h
		set state = 'open', decided_at = null, reason = '', clock_due = clock_from
		where h.id = $1 and h.state <> 'open'
			and not exists (select from handoff o where o.person_id = h.person_id and o.state = 'open')
			and not exists (select from deal_of d where d.person_id = h.person_id and d.closed_at is null)`, id)
	return n == 1, err
}

// ReopenWays puts people back on enrolments that ended for a reason at an
// instant, where they stood, with the touches that were withdrawn then. A step
// whose touch is out is due when it was; any other finds its time anew.
func (tx Tx) ReopenWays(ctx context.Context, ways []OpenWay, reason sequence.Reason, at, now time.Time) error {
	ids, due := make([]int64, len(ways)), make([]*time.Time, len(ways))
	for i, w := range ways {
		ids[i], due[i] = w.ID, w.Due
	}
	back, err := all[int64](ctx, tx, `
		update enrolment e set ended_at = null, reason = '', look = $5,
			phase = case when e.phase = $6 then e.phase else $7 end,
			due = case when e.phase = $6 then u.due else e.reached_at end
		from unnest($1::bigint[], $2::timestamptz[]) as u(id, due)
		where e.id = u.id and e.reason = $3 and e.ended_at >= $4
			and not exists (select from enrolment o where o.person_id = e.person_id and o.sequence_id = e.sequence_id
				and o.ended_at is null)
		returning e.id`, ids, due, string(reason), at, now, int16(sequence.Out), int16(sequence.Arrived))
	if err != nil {
		return err
	}
	if _, err := exec(ctx, tx,
		"delete from enrolment_log where enrolment_id = any ($1) and exit = '' and reason = $2 and at >= $3",
		back, string(reason), at); err != nil {
		return err
	}
	_, err = exec(ctx, tx, `
		with back as (
			update touch set state = case kind when 'email' then 'ready' else 'desk' end, done_at = null, trouble = ''
			where enrolment_id = any ($1) and state = 'withdrawn' and trouble = $2 and done_at >= $3
			returning id),
		letters as (
			update letter l set phase = 'waiting', worker = null from back where l.touch_id = back.id)
		update work w set open = true from back where w.touch_id = back.id`, back, string(reason), at)
	return err
}
