package store

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"time"

	"ombak/internal/core/contact"
	"ombak/internal/core/message"
	"ombak/internal/core/sequence"
	"ombak/internal/core/signal"
	"ombak/internal/core/touch"
)

// Outgoing is an email that a worker has claimed, with all that is needed to
// write it.
type Outgoing struct {
	ID        int64
	Enrolment int64  `db:"enrolment_id"`
	Sequence  int64  `db:"sequence_id"`
	Plan      int64  `db:"version_id"` // of the sequence
	Person    int64  `db:"person_id"`
	Step      int32  `db:"step"`
	MailID    string `db:"mail_id"`
	Mailing   int64  `db:"mailing_id"` // 0: it is a sequence's, or one by itself
	Single    bool   // by itself: it brings what a form asked for, or somebody sends it by hand
	Message   int64  `db:"message_id"`
	Version   int    `db:"message_version"`
	Tries     int
	ByHand    bool   `db:"by_hand"` // somebody wrote it to this one reader
	Answers   int64  // the letter that it answers; 0: none
	Invite    []byte // to a meeting, or that it does not take place; empty: none
	Sender    *int64 `db:"sender_id"`
	Campaign  string // what it is sent for: a campaign tag, else a name
	Claimed   bool   // false: it was taken back at that last look
}

// ClaimEmails takes up to n emails that are ready for worker, each with the
// Message-ID it will keep whatever happens. The last look at the person falls
// into the same transaction: an email whose enrolment has ended, or whose
// person must not get mail, is not claimed, and the rows are locked against a
// reply that comes at the same moment. Those of some outboxes are left.
func (s *Store) ClaimEmails(
	ctx context.Context, worker int64, domain string, now time.Time, n int, not []int64,
) ([]Outgoing, error) {
	var out []Outgoing
	err := s.InTx(ctx, func(tx Tx) error {
		out = nil
		// The first few of a million are wanted: the planner, which knows nothing of those that have just been written
		// down, would put all of them in order each time.
		if _, err := exec(ctx, tx,
			`select set_config('enable_sort', 'off', true), set_config('enable_bitmapscan', 'off', true),
			set_config('enable_mergejoin', 'off', true), set_config('enable_hashjoin', 'off', true),
			set_config('plan_cache_mode', 'force_generic_plan', true)`); err != nil {
			return err
		}
		// Who is away gets theirs when they are back.
		if _, err := exec(ctx, tx, `
			with away as materialized (select id, away_until from person where away_until > $1)
			update letter l set ready_at = a.away_until
			from away a join touch t on t.person_id = a.id
			where l.touch_id = t.id and l.lane <> $2 and l.open and l.phase = 'waiting' and l.ready_at <= $1`,
			now, int16(touch.Single)); err != nil {
			return err
		}
		if err := here(ctx, tx, worker); err != nil {
			return err
		}
		stopped, err := tx.StoppedOutboxes(ctx)
		if err != nil {
			return err
		}
		for _, lane := range touch.Lanes() {
			c := claim{worker: worker, domain: domain, now: now, not: append(stopped, not...), lane: lane}
			for range mostLooks { // where nobody of those it looked at may get theirs, it looks at the next
				if c.n = n - len(out); c.n == 0 {
					return nil
				}
				list, err := c.take(ctx, tx)
				if err != nil {
					return err
				}
				for _, o := range list {
					if o.Claimed {
						out = append(out, o)
					}
				}
				if len(list) < c.n {
					break
				}
			}
		}
		return nil
	})
	if err != nil {
		return nil, fmt.Errorf("claiming emails: %w", err)
	}
	slices.SortFunc(out, func(a, b Outgoing) int { return cmp.Compare(a.ID, b.ID) })
	return out, nil
}

// here holds a worker's row while its transaction lasts: whoever looks after the
// workers that are gone passes it over, and finds all that it has done the next time.
// One that was looked after already does nothing more.
func here(ctx context.Context, tx Tx, worker int64) error {
	if worker == 0 {
		return nil
	}
	_, err := one[int64](ctx, tx, "select id from worker where id = $1 for key share", worker)
	if IsNotFound(err) {
		return fmt.Errorf("worker %d was taken for dead, and what it had was given back", worker)
	}
	return err
}

// mostLooks is how often a claim looks on in one lane.
const mostLooks = 20

// claim is who claims what.
type claim struct {
	worker int64
	domain string
	now    time.Time
	n      int
	not    []int64 // outboxes that are busy or stopped
	lane   touch.Lane
}

// lane is how the letters of one are looked at a last time: of letter lt, its
// touch t and person p.
type lane struct {
	joins string
	why   string // they may not get it; null: they may
	runs  string // it is not held
	may   string // nor is what would only wait
	lock  string // whose row is held against what comes at the same moment
	end   touch.State

	campaign string // what it is sent for: a campaign tag, else a name
}

var lanes = map[touch.Lane]lane{
	// What a form was asked to send is the reader's own request once the address has proved itself, and claimed before.
	touch.Single: {runs: "true", may: "true", lock: "p", end: touch.Withdrawn,
		campaign: "coalesce((select g.title from page_answer a join page g on g.id = a.page_id where a.id = " +
			"t.answer_id), '')", why: whyNot(contact.Email, groundSQL{
			touchGround.purpose, touchGround.other, "(lt.answers is not null or lt.invite is not null or " +
				"t.event_id is not null or t.answer_id is not null and " + proved + ")", "(t.answer_id is not null)"})},
	touch.OfWay: {joins: "join enrolment e on e.id = t.enrolment_id join sequence q on q.id = t.sequence_id",
		why:  whyNot(contact.Email, touchGround),
		runs: "e.ended_at is null and q.state = 'running' and p.held_at is null",
		may: "(p.stopped_at is null or p.stopped_at <= e.entered_at or exists (select from sequence_version w where " +
			"w.id = e.version_id and w.plan->'stay' @> " + stoppedBy + ")) and (coalesce(" +
			"q.entry->'not_in', " +
			"q.entry->'not_on') is null or " + excludedAt + " is null or exists (select from sequence_version w " +
			"where w.id = e.version_id and w.plan->'stay' @> '\"joined an exclusion\"'))", lock: "e", end: touch.Passed,
		campaign: "q.name"},
	touch.ToGroup: {joins: "join mailing m on m.id = t.mailing_id",
		why: "coalesce(" + whyNot(contact.Email, touchGround) +
			", case when p.stopped_at >= m.launched_at then 'answered meanwhile' end)",
		runs: "m.state in ('filling', 'sending')", may: "p.held_at is null", lock: "p", end: touch.Withdrawn,
		campaign: "coalesce(nullif(m.plan->'tags'->>'campaign', ''), m.name)"},
}

// stoppedBy is the reason to leave that stopped a person p, as a plan that lets them stay names it.
var stoppedBy = func() string {
	s := "case p.stopped_by"
	for _, k := range signal.Kinds() {
		if r, ok := sequence.LeaveFor(k); ok {
			s += fmt.Sprintf(" when %d then to_jsonb('%s'::text)", k, r)
		}
	}
	return s + " end"
}()

const proved = "exists (select from page_answer a where a.id = t.answer_id and a.proved_at > a.at)"

// take takes the next letters of its lane: those whose readers may get them are
// claimed, the others taken back. It answers both.
func (c *claim) take(ctx context.Context, tx Tx) ([]Outgoing, error) {
	l := lanes[c.lane]
	args := []any{c.now, c.n, c.worker, c.domain, int16(c.lane), string(l.end)}
	if len(c.not) > 0 {
		args = append(args, c.not)
		l.may += " and " + outboxOf + " <> all ($7)"
	}
	// All that is told of a letter is read as it is looked at: what is read of a claim itself is put together row by
	// row.
	return all[Outgoing](ctx, tx, `
		with due as materialized (
			select lt.touch_id as id, x.why, p.email, coalesce(t.enrolment_id, 0) as enrolment_id,
				coalesce(t.sequence_id, 0) as sequence_id, coalesce(t.version_id, 0) as version_id,
				coalesce(t.mailing_id, 0) as mailing_id, $5 = 1 as single, $5 = 1 and t.answer_id is null as by_hand,
				t.person_id, t.step, t.message_id, t.message_version, s.id as sender_id,
				coalesce(lt.answers, 0) as answers, lt.invite,
				`+l.campaign+` as campaign
			from letter lt
			join touch t on t.id = lt.touch_id
			join person p on p.id = t.person_id
			`+l.joins+`
			left join message_version v on v.message_id = t.message_id and v.version = t.message_version
			left join app_user o on o.id = p.owner_id and o.left_at is null
			left join app_user w on w.id = lt.from_id and w.left_at is null
			left join app_user s on s.left_at is null
				and s.id = coalesce(case when lt.lane = 1 then lt.sender_id end, w.id,
					case when v.from_owner then o.id end, v.sender_id)
			cross join lateral (select `+l.why+` as why offset 0) x
			where lt.lane = $5 and lt.open and lt.phase = 'waiting' and lt.ready_at <= $1
				and `+l.runs+` and (x.why is not null or `+l.may+`)
			order by lt.lane, lt.ready_at, lt.touch_id
			limit $2
			for update of lt, `+l.lock+` skip locked),
		back as (
			update letter l set phase = 'over'
			from due where l.touch_id = due.id and due.why is not null
			returning due.*),
		ended as (
			update touch t set state = $6, trouble = back.why, done_at = $1
			from back where t.id = back.id
			returning t.enrolment_id),
		woken as (
			update enrolment e set look = least(e.look, $1) from ended where e.id = ended.enrolment_id),
		claimed as (
			update letter l
			set phase = 'claimed', claimed_at = $1, worker = $3, tries = l.tries + 1, address = due.email,
				sender_id = coalesce(due.sender_id, l.sender_id),
				mail_id = coalesce(l.mail_id,
					't' || l.touch_id || '.' || substr(md5(random()::text || l.touch_id), 1, 12) || '@' || $4)
			from due where l.touch_id = due.id and due.why is null
			returning due.*, l.mail_id, l.tries)
		select `+outgoing+`, mail_id, tries, true as claimed from claimed
		union all
		select `+outgoing+`, '', 0, false from back`, args...)
}

const outgoing = `id, enrolment_id, sequence_id, version_id, mailing_id, single, by_hand, person_id, step, message_id,
	message_version, sender_id, answers, invite, campaign`

// Begin is an email whose turn has come, with whose words it has.
type Begin struct {
	ID    int64
	Group int64
	Edit  *message.Edit
}

// BeginSending marks claimed emails as being sent: from here on their fate can
// become unknown. It answers those that may go out; the others may not any more,
// because their readers have left meanwhile.
func (db Queries) BeginSending(ctx context.Context, worker int64, list []Begin) (map[int64]bool, error) {
	ids, groups, edits := make([]int64, len(list)), make([]int64, len(list)), make([]*JSON[*message.Edit], len(list))
	for i, b := range list {
		ids[i], groups[i] = b.ID, b.Group
		if b.Edit != nil {
			edits[i] = &JSON[*message.Edit]{b.Edit}
		}
	}
	texts, err := textsOf(edits)
	if err != nil {
		return nil, err
	}
	done, err := all[int64](ctx, db, `
		with alive as (select id from worker where id = $4 for key share)
		update letter l set phase = 'sending', reader_group = u.grp, edit = u.edit::jsonb
		from unnest($1::bigint[], $2::bigint[], $3::text[]) as u(id, grp, edit)
		where l.touch_id = u.id and l.worker = $4 and l.phase = 'claimed' and ($4 = 0 or exists (select from alive))
		returning l.touch_id`, ids, groups, texts, worker)
	begun := make(map[int64]bool, len(done))
	for _, id := range done {
		begun[id] = true
	}
	return begun, err
}

// End is what became of an email: its touch goes on to sent, held, stopped,
// passed or back to ready.
type End struct {
	ID, Enrolment    int64
	State            touch.State
	Subject, Trouble string
	At, Ready        time.Time
}

// EndTouches keeps what became of emails that a worker has, or that were set aside
// meanwhile, and has the enrolments of those that were sent looked at. It answers
// which touches it moved: those that are in another state by now it leaves.
func (tx Tx) EndTouches(ctx context.Context, list []End) (map[int64]bool, error) {
	return endTouches(ctx, tx, list, touch.Claimed, touch.Sending, touch.Aside)
}

// ResolveTouch is what somebody says of an email that was set aside; false: it is
// not any more.
func (tx Tx) ResolveTouch(ctx context.Context, id int64, to touch.State, at time.Time) (bool, error) {
	moved, err := endTouches(ctx, tx, []End{{ID: id, State: to, At: at, Ready: at}}, touch.Aside)
	return moved[id], err
}

func endTouches(ctx context.Context, tx Tx, list []End, from ...touch.Phase) (map[int64]bool, error) {
	n := len(list)
	ids, ways := make([]int64, n), make([]int64, 0, n)
	state, phase, subject, trouble := make([]string, n), make([]string, n), make([]string, n), make([]string, n)
	at, ready := make([]time.Time, n), make([]time.Time, n)
	var latest time.Time
	for i, x := range list {
		ids[i], state[i], phase[i] = x.ID, string(x.State), string(x.State.Letter())
		subject[i], trouble[i], at[i], ready[i] = x.Subject, x.Trouble, x.At, x.Ready
		if x.State == touch.Sent && x.Enrolment != 0 {
			ways = append(ways, x.Enrolment)
			if latest.IsZero() || x.At.Before(latest) {
				latest = x.At
			}
		}
	}
	// Enrolments before letters, and letters before touches, each in the order of their ids, as everybody locks them
	// who
	// needs several.
	if len(ways) > 0 {
		if _, err := exec(ctx, tx, `update enrolment set look = least(look, $2) where id in (
				select id from enrolment where id = any ($1) and ended_at is null order by id for update)`, ways,
			latest); err != nil {
			return nil, err
		}
	}
	moved, err := all[int64](ctx, tx, `
		with ended as (
			update letter l set phase = u.phase, trouble = u.trouble, worker = null,
				subject = case when u.subject = '' then l.subject else u.subject end,
				ready_at = case when u.phase = 'waiting' then u.ready else l.ready_at end
			from unnest($1::bigint[], $2::text[], $3::text[], $4::text[], $5::text[], $6::timestamptz[],
				$7::timestamptz[])
				as u(id, state, phase, subject, trouble, at, ready)
			where l.touch_id = u.id and l.phase = any ($8)
			returning l.touch_id, u.state, u.at),
		moved as (
			update touch t set state = e.state, done_at = case when e.state in ('sent', 'passed') then e.at end
			from ended e where t.id = e.touch_id and t.state <> e.state)
		select touch_id from ended`, ids, state, phase, subject, trouble, at, ready, from)
	out := make(map[int64]bool, len(moved))
	for _, id := range moved {
		out[id] = true
	}
	return out, err
}

// PutOffEmails lets emails that a worker has claimed wait: it was no try.
func (tx Tx) PutOffEmails(ctx context.Context, ids []int64, at []time.Time) error {
	_, err := exec(ctx, tx, `update letter l set phase = 'waiting', ready_at = u.at, worker = null, tries = l.tries - 1
		from unnest($1::bigint[], $2::timestamptz[]) as u(id, at) where l.touch_id = u.id and l.phase = 'claimed'`, ids,
		at)
	if err != nil {
		return fmt.Errorf("putting %d emails off: %w", len(ids), err)
	}
	return nil
}

// SentBefore is an email that went out to somebody on their way.
type SentBefore struct {
	Enrolment int64 `db:"enrolment_id"`
	Step      int32
	MailID    string `db:"mail_id"`
	Subject   string
}

// SentInWays lists the emails that some ways have sent.
func (db Queries) SentInWays(ctx context.Context, enrolments []int64) ([]SentBefore, error) {
	return all[SentBefore](ctx, db, `
		select t.enrolment_id, t.step, l.mail_id, l.subject from touch t join letter l on l.touch_id = t.id
		where t.enrolment_id = any ($1) and t.state = 'sent' and l.mail_id is not null`, enrolments)
}

// textsOf is JSON as texts; nil stays nil.
func textsOf[T any](list []*JSON[T]) ([]*string, error) {
	out := make([]*string, len(list))
	for i, x := range list {
		if x == nil {
			continue
		}
		v, err := x.Value()
		if err != nil {
			return nil, err
		}
		var s string
		switch v := v.(type) {
		case []byte:
			s = string(v)
		case string:
			s = v
		}
		out[i] = &s
	}
	return out, nil
}

// Answered is a letter that is answered: its Message-ID, and that of the email it answered itself;
// empty where there is none.
type Answered struct {
	ID      int64
	MailID  string `db:"mail_id"`
	Before  string
	Subject string
}

// AnsweredLetters reads those that some emails answer.
func (db Queries) AnsweredLetters(ctx context.Context, ids []int64) ([]Answered, error) {
	return all[Answered](ctx, db, `
		select i.id, i.mail_id, coalesce(l.mail_id, '') as before, i.subject
		from incoming i
		left join letter l on l.touch_id = i.touch_id
		where i.id = any ($1)`, ids)
}
