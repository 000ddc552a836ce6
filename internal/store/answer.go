package store

import (
	"context"
	"time"

	"ombak/internal/core/answer"
	"ombak/internal/core/sequence"
	"ombak/internal/core/signal"
)

// Incoming reads a letter.
func (db Queries) Incoming(ctx context.Context, id int64) (Incoming, error) {
	return one[Incoming](ctx, db, incomingFields+"where i.id = $1", id)
}

// Sorted is what sorting an answer did, as far as it can be taken back.
type Sorted struct {
	At       time.Time   `json:"at"`
	Kind     signal.Kind `json:"kind"`              // of the signal that was recorded then
	Theirs   bool        `json:"theirs,omitempty"`  // it was not known before whether the letter was theirs
	Ways     []OpenWay   `json:"ways,omitempty"`    // that they were on
	Reopened []int64     `json:"back,omitempty"`    // that the answer had ended
	Stopped  *time.Time  `json:"stopped,omitempty"` // what had stopped them before, and by what
	By       signal.Kind `json:"by,omitempty"`
	OptedOut *time.Time  `json:"opted_out,omitempty"`
	Away     *time.Time  `json:"away,omitempty"`
	Handoff  int64       `json:"handoff,omitempty"`
	Deal     int64       `json:"deal,omitempty"` // opened by it
	Comeback int64       `json:"comeback,omitempty"`
}

// SortAnswer keeps what an answer came to, and what that did. It is ErrNotFound where somebody
// else has sorted it by now.
func (tx Tx) SortAnswer(ctx context.Context, id, user int64, s answer.Sort, did Sorted) error {
	n, err := exec(ctx, tx, `
		update incoming set answer = $2, answered_at = $3, answered_by = $4, did = $5, rep_id = coalesce(rep_id, $4)
		where id = $1 and answer = ''`, id, string(s), did.At, user, JSON[Sorted]{V: did})
	if err == nil && n == 0 {
		err = ErrNotFound
	}
	return err
}

// UnsortAnswer has an answer wait again, and answers what sorting it did. It is ErrNotFound
// where that cannot be taken back any more.
func (tx Tx) UnsortAnswer(ctx context.Context, id int64) (Sorted, error) {
	d, err := one[JSON[Sorted]](ctx, tx, `
		with was as (select id, did from incoming where id = $1 and answer <> '' and did is not null for update)
		update incoming i set answer = '', answered_at = null, answered_by = null, did = null
		from was
		where i.id = was.id
		returning was.did`, id)
	return d.V, err
}

// SorterOf is who sorted an answer; 0: nobody.
func (tx Tx) SorterOf(ctx context.Context, id int64) (int64, error) {
	return one[int64](ctx, tx, "select coalesce(answered_by, 0) from incoming where id = $1", id)
}

// MarkSignals marks what somebody did at an instant as not counting, and why; empty: as counting
// again.
func (tx Tx) MarkSignals(ctx context.Context, person int64, k signal.Kind, at time.Time, why string) error {
	_, err := exec(ctx, tx, "update signal set machine = $4 where person_id = $1 and kind = $2 and at = $3", person,
		int16(k), at, why)
	return err
}

// Stood is what had stopped somebody, whether they had opted out, and until when they were away.
func (tx Tx) Stood(ctx context.Context, person int64) (s Sorted, err error) {
	r, err := one[struct {
		Stopped  *time.Time  `db:"stopped_at"`
		By       signal.Kind `db:"stopped_by"`
		OptedOut *time.Time  `db:"opted_out_at"`
		Away     *time.Time  `db:"away_until"`
	}](ctx, tx, `
		select stopped_at, coalesce(stopped_by, 0) as stopped_by, opted_out_at, away_until
		from person
		where id = $1
		for update`, person)
	return Sorted{Stopped: r.Stopped, By: r.By, OptedOut: r.OptedOut, Away: r.Away}, err
}

// StandAgain puts that back.
func (tx Tx) StandAgain(ctx context.Context, person int64, s Sorted) error {
	_, err := exec(ctx, tx, `
		update person set stopped_at = $2, stopped_by = nullif($3::smallint, 0), opted_out_at = $4, away_until = $5
		where id = $1`, person, s.Stopped, int16(s.By), s.OptedOut, s.Away)
	return err
}

// EndedWays lists the ways of somebody that ended for a reason at an instant, on sequences that run.
func (db Queries) EndedWays(
	ctx context.Context, person int64, r sequence.Reason, since time.Time,
) ([]EndedWay, error) {
	return all[EndedWay](ctx, db, `
		select e.id, e.sequence_id as sequence, q.name
		from enrolment e
		join sequence q on q.id = e.sequence_id
		where e.person_id = $1 and e.reason = $2 and e.ended_at >= $3 and q.state = 'running'
		order by e.ended_at, e.id
		limit 20`, person, string(r), since)
}

// EndedWay is a way that has ended.
type EndedWay struct {
	ID       int64
	Sequence int64
	Name     string
}

// NewComeback is one to be kept.
type NewComeback struct {
	Person, Sequence, Way int64 // way 0: they enter anew
	Step                  int32 // where they enter anew: at which step; 0: at the beginning
	Due, Made             time.Time
	Why                   string
	User                  int64
}

// AddComeback keeps that somebody comes back into a sequence.
func (tx Tx) AddComeback(ctx context.Context, c NewComeback) (int64, error) {
	return one[int64](ctx, tx, `
		insert into comeback (person_id, sequence_id, enrolment_id, due, why, user_id, made_at, step)
		values ($1, $2, nullif($3::bigint, 0), $4, $5, nullif($6::bigint, 0), $7, $8)
		returning id`, c.Person, c.Sequence, c.Way, c.Due, c.Why, c.User, c.Made, c.Step)
}

// RemoveComeback removes one that has not come; false: it has.
func (tx Tx) RemoveComeback(ctx context.Context, id int64) (bool, error) {
	n, err := exec(ctx, tx, "delete from comeback where id = $1 and done_at is null", id)
	return n == 1, err
}

// Comeback is that somebody comes back into a sequence.
type Comeback struct {
	ID       int64
	Person   int64 `db:"person_id"`
	Sequence int64 `db:"sequence_id"`
	Way      int64 `db:"way"` // 0: they enter anew
	Step     int32
	Name     string // of the sequence
	Due      time.Time
	Why      string
	User     string
	Done     *time.Time `db:"done_at"`
	Outcome  string
}

const comebackFields = `
	select c.id, c.person_id, c.sequence_id, coalesce(c.enrolment_id, 0) as way, c.step, q.name, c.due, c.why,
		coalesce(u.name, '') as "user", c.done_at, c.outcome
	from comeback c
	join sequence q on q.id = c.sequence_id
	left join app_user u on u.id = c.user_id `

// DueComebacks takes up to n whose time has come, for this transaction. Those into sequences that
// are held wait.
func (tx Tx) DueComebacks(ctx context.Context, now time.Time, n int) ([]Comeback, error) {
	return all[Comeback](ctx, tx, comebackFields+`
		where c.due <= $1 and c.done_at is null and q.state <> 'held'
		order by c.due, c.id
		limit $2
		for update of c skip locked`, now, n)
}

// ComebackDone keeps what became of one.
func (tx Tx) ComebackDone(ctx context.Context, id int64, outcome string, at time.Time) error {
	_, err := exec(ctx, tx, "update comeback set done_at = $2, outcome = $3 where id = $1", id, at, outcome)
	return err
}

// PersonComebacks lists those of a person, the next first.
func (db Queries) PersonComebacks(ctx context.Context, person int64) ([]Comeback, error) {
	return all[Comeback](ctx, db, comebackFields+"where c.person_id = $1 order by c.due desc, c.id limit 20", person)
}

// GoOn has a way that ended go on at the step at which it stood, from now: what it was looked at
// for since it began is as far back as before. The step is come to anew, as by a hand's move, so
// that a touch of it that was withdrawn is made. It answers false where that cannot be: somebody
// is on the sequence again, or the sequence does not run.
func (tx Tx) GoOn(ctx context.Context, way int64, now time.Time) (bool, error) {
	n, err := exec(ctx, tx, `
		update enrolment e
		set ended_at = null, reason = '', phase = 0, reached_at = $2, due = $2, look = $2, held = false,
			entered_at = e.entered_at + ($2 - e.ended_at),
			visit = coalesce((select max(t.visit) + 1 from touch t where t.enrolment_id = e.id and t.step = e.step
				and t.state <> 'sent' and t.state <> 'held'), e.visit)
		from sequence q
		where e.id = $1 and q.id = e.sequence_id and q.state = 'running' and e.ended_at is not null
			and not exists (select from enrolment o where o.person_id = e.person_id and o.sequence_id = e.sequence_id
				and o.ended_at is null)`, way, now)
	if err != nil || n == 0 {
		return false, err
	}
	_, err = exec(ctx, tx, `
		update person p set stopped_at = null, stopped_by = null
		from enrolment e
		where e.id = $1 and p.id = e.person_id`, way)
	return err == nil, err
}

// Snippet are words that are written again and again.
type Snippet struct {
	ID   int64
	Name string
	Body string
	User *int64 `db:"user_id"` // whose alone they are; nil: everybody's
}

// Snippets lists everybody's and a user's own, by name.
func (db Queries) Snippets(ctx context.Context, user int64) ([]Snippet, error) {
	return all[Snippet](ctx, db, `
		select id, name, body, user_id
		from snippet
		where removed_at is null and (user_id is null or user_id = $1)
		order by lower(name), id
		limit 200`, user)
}

// Snippet reads one that a user may use.
func (db Queries) Snippet(ctx context.Context, id, user int64) (Snippet, error) {
	return one[Snippet](ctx, db, `
		select id, name, body, user_id
		from snippet
		where id = $1 and (user_id is null or user_id = $2)`, id, user)
}

// KeepSnippet keeps a new one where its id is 0, or changes one that a user may use.
func (tx Tx) KeepSnippet(ctx context.Context, s Snippet, user int64, at time.Time) (int64, error) {
	if s.ID == 0 {
		return one[int64](ctx, tx,
			"insert into snippet (name, body, user_id, made_at) values ($1, $2, $3, $4) returning id", s.Name, s.Body,
			s.User, at)
	}
	n, err := exec(ctx, tx, `
		update snippet set name = $2, body = $3, user_id = $4
		where id = $1 and removed_at is null and (user_id is null or user_id = $5)`, s.ID, s.Name, s.Body, s.User,
		user)
	if err == nil && n == 0 {
		err = ErrNotFound
	}
	return s.ID, err
}

// RemoveSnippet removes one, or puts it back.
func (tx Tx) RemoveSnippet(ctx context.Context, id, user int64, gone bool, at time.Time) error {
	n, err := exec(ctx, tx, `
		update snippet set removed_at = case when $3 then $4::timestamptz end
		where id = $1 and (user_id is null or user_id = $2)`, id, user, gone, at)
	if err == nil && n == 0 {
		err = ErrNotFound
	}
	return err
}

// Wrote is a letter of a thread with somebody, in or out.
type Wrote struct {
	In      bool
	ID      int64 // of the letter that came, or of the touch that went
	At      time.Time
	Subject string
	Said    string // of one that came
	Message int64
	Version int
	ByHand  bool   `db:"by_hand"`
	Name    string // who wrote it, of ours
	State   string
	Answers int64 // the letter that it answers; 0: none
	Sender  int64 // of ours; 0: nobody, or it came in
}

// Thread lists the last n letters to and from somebody, the newest first.
func (db Queries) Thread(ctx context.Context, person int64, n int) ([]Wrote, error) {
	return all[Wrote](ctx, db, `
		with wrote as (
			(select true as "in", i.id, i.at, i.subject, i.said, 0::bigint as message, 0 as version, false as by_hand,
				i.sender as name, '' as state, 0::bigint as answers, 0::bigint as sender
			from incoming i
			where i.person_id = $1
			order by i.at desc, i.id desc
			limit $2)
			union all
			(select false, t.id, coalesce(t.done_at, t.made_at), coalesce(nullif(l.subject, ''), v.subject, ''), '',
				coalesce(t.message_id, 0), coalesce(t.message_version, 0), t.once is not null,
				coalesce(u.name, ''), t.state, coalesce(l.answers, 0), coalesce(l.sender_id, 0)
			from touch t
			join letter l on l.touch_id = t.id
			left join message_version v on v.message_id = t.message_id and v.version = t.message_version
			left join app_user u on u.id = l.sender_id
			where t.person_id = $1 and t.kind = 'email' and t.state in ('ready', 'sent', 'held')
			order by coalesce(t.done_at, t.made_at) desc, t.id desc
			limit $2)
			union all
			(select false, x.id, x.at, x.subject, x.said, 0, 0, true, u.name, 'sent', 0, 0
			from outside_letter x
			join app_user u on u.id = x.user_id
			where x.person_id = $1
			order by x.at desc
			limit $2))
		select * from wrote order by at desc, id desc limit $2`, person, n)
}

// WhoAnswers is who is to answer what somebody writes: who has a handoff or a deal of theirs in hand,
// else their owner, else who sent what it answers; nil: nobody of those, or they sell nothing.
func (db Queries) WhoAnswers(ctx context.Context, person int64, touch *int64) (*int64, error) {
	id, err := one[int64](ctx, db, `
		select x.id
		from (
			select rep_id as id, 1 as n from handoff where person_id = $1 and state = 'open'
			union all
			select rep_id, 2 from deal where person_id = $1 and closed_at is null
			union all
			select owner_id, 3 from person where id = $1
			union all
			select sender_id, 4 from letter where touch_id = $2) x
		join app_user u on u.id = x.id and u.left_at is null and u.role <> 'marketer'
		order by x.n
		limit 1`, person, touch)
	if IsNotFound(err) {
		return nil, nil
	}
	return &id, err
}

// MarkLastSignal marks the last signal of a kind of somebody as not counting, and why.
func (tx Tx) MarkLastSignal(ctx context.Context, person int64, k signal.Kind, why string) error {
	at, err := one[time.Time](ctx, tx, `
		with last as (
			select id, at
			from signal
			where person_id = $1 and kind = $2 and machine = ''
			order by at desc, id desc
			limit 1)
		update signal s set machine = $3 from last where s.id = last.id and s.at = last.at
		returning s.at`, person, int16(k), why)
	if IsNotFound(err) {
		return nil
	}
	if err != nil {
		return err
	}
	return tx.MarkStandings(ctx, []int64{person}, at)
}
