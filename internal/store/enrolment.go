package store

import (
	"context"
	"fmt"
	"slices"
	"time"

	"github.com/jackc/pgx/v5/pgtype"

	"ombak/internal/core/contact"
	"ombak/internal/core/sequence"
)

// Claimed is an enrolment that this transaction has taken to look at, with
// what the record of its person says that every look needs.
type Claimed struct {
	ID, Sequence, Version, Person int64
	State                         sequence.State

	Country, City, Zone string
	StoppedAt           time.Time // zero: never
	StoppedBy           int16
	Reach               contact.Facts // with what they say of the version's purpose
	TookBack            time.Time     // when they took that consent back; zero: they did not
}

// claimedWays are the fields of an enrolment that the statement reads that locks it: as they are once it is locked.
const claimedWays = "id, sequence_id, version_id, person_id, key, step, visit, phase, entered_at, reached_at, due"

// claimedPeople are those of the people of some enrolments, $1, by their versions, $2.
const claimedPeople = `
			select c.place, p.country, p.city, p.zone, p.stopped_at, coalesce(p.stopped_by, 0),
			p.erased_at is not null, p.email <> '', p.phone <> '', p.profile <> '', p.street <> '' and p.city <> '',
			p.do_not_contact,
			p.opted_out_at is not null, p.no_calls_at is not null, p.bounced_at is not null, k.purpose_id, k.given, k.at
		from unnest($1::bigint[], $2::bigint[]) with ordinality as c(person_id, version_id, place)
		join person p on p.id = c.person_id
		join sequence_version v on v.id = c.version_id
		left join consent k on k.person_id = c.person_id and k.purpose_id = v.purpose_id and k.current`

// ClaimDue takes up to n enrolments that have to be looked at by now, passing
// over those another worker has, those of held sequences and those of people who
// may have answered. They stay locked until the transaction ends.
func (tx Tx) ClaimDue(ctx context.Context, now time.Time, n int, not []int64) ([]Claimed, error) {
	list, err := claimed(ctx, tx, `
		select `+claimedWays+`
		from enrolment
		where ended_at is null and look is not null and look <= $1 and not held
			and sequence_id <> all (array(select id from sequence where state <> 'running'))
			and sequence_id <> all ($3)
			and person_id <> all (array(select id from person where held_at is not null))
		order by look
		limit $2
		for update skip locked`, now, n, append([]int64{}, not...))
	if err != nil {
		return nil, fmt.Errorf("claiming enrolments: %w", err)
	}
	return list, nil
}

// ClaimOpen takes every open enrolment of a person that is not younger than an
// instant, waiting for those another worker has.
func (tx Tx) ClaimOpen(ctx context.Context, person int64, at time.Time) ([]Claimed, error) {
	list, err := claimed(ctx, tx, `
		select `+claimedWays+`
		from enrolment
		where person_id = $1 and ended_at is null and entered_at <= $2
		order by id
		for update`, person, at)
	if err != nil {
		return nil, fmt.Errorf("claiming the enrolments of person %d: %w", person, err)
	}
	return list, nil
}

// claimed reads the enrolments that a statement locks, and then their people, by a statement of its own: of what the
// one that locks joins it would see how it was when it began, and whoever had them meanwhile may have changed it. They
// come in the order in which they were locked: who has waited longest first.
func claimed(ctx context.Context, tx Tx, lock string, args ...any) ([]Claimed, error) {
	rows, err := tx.QueryContext(ctx, lock, args...)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var out []Claimed
	var people, versions []int64
	for rows.Next() {
		var c Claimed
		var due *time.Time
		st := &c.State
		if err := rows.Scan(&c.ID, &c.Sequence, &c.Version, &c.Person, &st.Key, &st.Step, &st.Visit, &st.Phase,
			&st.Entered, &st.Reached, &due); err != nil {
			return nil, err
		}
		if due != nil {
			st.Due = *due
		}
		out = append(out, c)
		people, versions = append(people, c.Person), append(versions, c.Version)
	}
	if err := rows.Err(); err != nil || len(out) == 0 {
		return nil, err
	}
	return out, claimPeople(ctx, tx, out, people, versions)
}

// claimPeople reads what is known of the people of claimed enrolments.
func claimPeople(ctx context.Context, tx Tx, out []Claimed, people, versions []int64) error {
	rows, err := tx.QueryContext(ctx, claimedPeople, people, versions)
	if err != nil {
		return err
	}
	defer rows.Close()
	for rows.Next() {
		var place int
		var c Claimed
		var stopped, said *time.Time
		var agreed *bool
		var purpose *int64
		r := &c.Reach
		if err := rows.Scan(&place, &c.Country, &c.City, &c.Zone, &stopped, &c.StoppedBy,
			&r.Erased, &r.Email, &r.Phone, &r.Profile, &r.Postal, &r.DoNotContact, &r.OptedOut,
			&r.NoCalls, &r.Bounced,
			&purpose, &agreed, &said); err != nil {
			return err
		}
		switch {
		case agreed == nil:
		case *agreed:
			r.Consents = contact.Consents{{Purpose: *purpose, Is: contact.Agreed}}
		default:
			r.Consents, c.TookBack = contact.Consents{{Purpose: *purpose, Is: contact.Withdrawn}}, *said
		}
		if stopped != nil {
			c.StoppedAt = *stopped
		}
		was := &out[place-1]
		c.ID, c.Sequence, c.Version, c.Person, c.State = was.ID, was.Sequence, was.Version, was.Person, was.State
		*was = c
	}
	return rows.Err()
}

// Progress is what has become of claimed enrolments, as columns: the form in
// which it is written back at once.
type Progress struct {
	id             []int64
	step, visit    []int32
	phase          []int16
	reached        []time.Time
	due, look      []pgtype.Timestamptz
	ended          []pgtype.Timestamptz
	reason         []string
	logID, logVer  []int64
	logStep        []int32
	logAt          []time.Time
	logExit, logIf []string
}

func stamp(t time.Time) pgtype.Timestamptz { return pgtype.Timestamptz{Time: t, Valid: !t.IsZero()} }

// Add notes the new state of an enrolment and the steps it has done.
func (p *Progress) Add(c *Claimed, logs []sequence.Log) {
	st := &c.State
	p.id = append(p.id, c.ID)
	p.step = append(p.step, int32(st.Step))
	p.visit = append(p.visit, max(st.Visit, 1))
	p.phase = append(p.phase, int16(st.Phase))
	p.reached = append(p.reached, st.Reached)
	p.due = append(p.due, stamp(st.Due))
	p.look = append(p.look, stamp(st.Look))
	p.ended = append(p.ended, stamp(st.Ended))
	p.reason = append(p.reason, string(st.Reason))
	for _, l := range logs {
		p.logID = append(p.logID, c.ID)
		p.logVer = append(p.logVer, c.Version)
		p.logStep = append(p.logStep, int32(l.Step))
		p.logAt = append(p.logAt, l.At)
		p.logExit = append(p.logExit, string(l.Exit))
		p.logIf = append(p.logIf, string(l.Reason))
	}
}

// KeepProgress writes it back, in two statements whatever its size.
func (tx Tx) KeepProgress(ctx context.Context, p *Progress) error {
	if len(p.id) == 0 {
		return nil
	}
	if _, err := exec(ctx, tx, `
		update enrolment e set step = u.step, phase = u.phase, reached_at = u.reached, due = u.due, look = u.look,
			ended_at = u.ended, reason = u.reason, visit = u.visit
		from unnest($1::bigint[], $2::int[], $3::smallint[], $4::timestamptz[], $5::timestamptz[], $6::timestamptz[],
			$7::timestamptz[], $8::text[], $9::int[]) as u(id, step, phase, reached, due, look, ended, reason, visit)
		where e.id = u.id`, p.id, p.step, p.phase, p.reached, p.due, p.look, p.ended, p.reason, p.visit); err != nil {
		return fmt.Errorf("keeping %d enrolments: %w", len(p.id), err)
	}
	if len(p.logID) == 0 {
		return nil
	}
	if _, err := exec(ctx, tx, `
		insert into enrolment_log (enrolment_id, version_id, step, at, exit, reason)
		select * from unnest($1::bigint[], $2::bigint[], $3::int[], $4::timestamptz[], $5::text[], $6::text[])`,
		p.logID, p.logVer, p.logStep, p.logAt, p.logExit, p.logIf); err != nil {
		return fmt.Errorf("logging %d steps: %w", len(p.logID), err)
	}
	return nil
}

// Wake has every open enrolment of these people looked at, at the instant.
func (tx Tx) Wake(ctx context.Context, people []int64, at time.Time) error {
	_, err := exec(ctx, tx, `
		update enrolment set look = least(look, $2) where id in (
			select id from enrolment where person_id = any ($1) and ended_at is null and not held order by id
			for update)`, people,
		at)
	return err
}

// WakeOne has one enrolment looked at.
func (tx Tx) WakeOne(ctx context.Context, id int64, at time.Time) error {
	_, err := exec(ctx, tx,
		"update enrolment set look = least(look, $2) where id = $1 and ended_at is null and not held", id, at)
	return err
}

// PutOff has enrolments looked at no sooner than an instant.
func (tx Tx) PutOff(ctx context.Context, ids []int64, until time.Time) error {
	_, err := exec(ctx, tx, "update enrolment set look = $2 where id = any ($1) and ended_at is null and not held", ids,
		until)
	return err
}

// Leave ends enrolments for a reason, where they stand.
func (tx Tx) Leave(ctx context.Context, ids []int64, reason sequence.Reason, at time.Time) error {
	_, err := exec(ctx, tx, `
		with left_now as (
			update enrolment set ended_at = $3, reason = $2, due = null, look = null
			where id = any ($1) and ended_at is null returning id, version_id, step)
		insert into enrolment_log (enrolment_id, version_id, step, at, exit, reason)
		select id, version_id, step, $3, '', $2 from left_now`, ids, string(reason), at)
	return err
}

// Enrol enters people into a running version at an instant, passing over those whom its
// entry does not allow now and those whom no touch of it may reach, and answers how many
// entered.
func (tx Tx) Enrol(ctx context.Context, q *RunningEntry, people []int64, at time.Time) (int64, error) {
	c := compiler{now: at}
	plan := q.Plan.V
	seq, version, start, who, now := c.arg(q.Sequence), c.arg(q.Version), c.arg(int32(plan.Start)), c.arg(people),
		c.arg(at)
	n, err := exec(ctx, tx, `
		insert into enrolment (sequence_id, version_id, person_id, key, step, entered_at, reached_at, due, look)
		select `+seq+`, `+version+`, p.id, p.id, `+start+`, `+now+`, `+now+`, `+now+`, `+now+` from person p
		where p.id = any (`+who+`) and (`+whyNotEnter(plan.Ways())+`) is null
			and (`+c.mayNot(&q.Entry.V, seq, at, false)+`) is null
		order by p.id
		on conflict (sequence_id, person_id) where ended_at is null do nothing`, planned(c.args)...)
	if err != nil {
		return 0, fmt.Errorf("entering people into sequence %d: %w", q.Sequence, err)
	}
	if n == 0 {
		return 0, nil
	}
	// Whoever is on one that leaves out who is on this one is looked at.
	_, err = exec(ctx, tx, `
		with way as (
			select e.id
			from sequence o
			join enrolment e on e.sequence_id = o.id
			where o.entry->'not_on' @> to_jsonb($1::bigint) and e.person_id = any ($2) and e.ended_at is null
				and not e.held and e.entered_at < $3
			order by e.id
			for update of e)
		update enrolment e set look = least(e.look, $3) from way where e.id = way.id`, q.Sequence, people, at)
	if err != nil {
		return 0, fmt.Errorf("looking at those whom sequence %d takes out of others: %w", q.Sequence, err)
	}
	return n, nil
}

// excludedAt is when a person came to be among those whom the entry of a sequence q leaves out,
// since they entered it by enrolment e; null: they did not.
const excludedAt = `(
	select min(x.at)
	from (
		select m.joined_at as at
		from audience_member m
		where m.person_id = e.person_id and m.joined_at > e.entered_at
			and q.entry->'not_in' @> to_jsonb(m.audience_id)
		union all
		select o.entered_at
		from enrolment o
		where o.person_id = e.person_id and o.ended_at is null and o.entered_at > e.entered_at
			and q.entry->'not_on' @> to_jsonb(o.sequence_id)) x)`

// Excluded reads, of some enrolments, when their people came to be among those whom their
// sequences leave out; who did not is not in it.
func (db Queries) Excluded(ctx context.Context, claimed []Claimed) (map[int64]time.Time, error) {
	var sequences, ids []int64
	for i := range claimed {
		if !slices.Contains(sequences, claimed[i].Sequence) {
			sequences = append(sequences, claimed[i].Sequence)
		}
	}
	leave, err := all[int64](ctx, db, `
		select id
		from sequence
		where id = any ($1) and (entry->'not_in' is not null or entry->'not_on' is not null)`, sequences)
	for i := range claimed {
		if slices.Contains(leave, claimed[i].Sequence) {
			ids = append(ids, claimed[i].ID)
		}
	}
	if err != nil || len(ids) == 0 {
		return nil, err
	}
	rows, err := all[struct {
		ID int64
		At time.Time
	}](ctx, db, `
		select * from (
			select e.id, `+excludedAt+` as at
			from enrolment e
			join sequence q on q.id = e.sequence_id
			where e.id = any ($1)) y
		where at is not null`, ids)
	if err != nil {
		return nil, fmt.Errorf("reading who is left out by now: %w", err)
	}
	out := make(map[int64]time.Time, len(rows))
	for _, r := range rows {
		out[r.ID] = r.At
	}
	return out, nil
}

// Bars is why some people cannot enter a sequence now, by person; who can is not in it.
func (db Queries) Bars(
	ctx context.Context, sequenceID int64, people []int64, at time.Time,
) (map[int64]string, error) {
	q, err := one[RunningEntry](ctx, db, runningEntries+"and q.id = $1", sequenceID)
	if IsNotFound(err) {
		out := make(map[int64]string, len(people))
		for _, id := range people {
			out[id] = NotRunning
		}
		return out, nil
	}
	if err != nil {
		return nil, err
	}
	c := compiler{now: at}
	why := "coalesce(" + c.mayNot(&q.Entry.V, c.arg(sequenceID), at, false) + ", " +
		whyNotEnter(q.Plan.V.Ways()) + ")"
	rows, err := all[struct {
		ID  int64
		Why string
	}](ctx, db, `
		select x.id, x.why
		from (select p.id, `+why+` as why from person p where p.id = any (`+c.arg(people)+`)) x
		where x.why is not null`, planned(c.args)...)
	if err != nil {
		return nil, fmt.Errorf("asking who may enter sequence %d: %w", sequenceID, err)
	}
	out := make(map[int64]string, len(rows))
	for _, r := range rows {
		out[r.ID] = r.Why
	}
	return out, nil
}

// NextLook is the first instant at which some enrolment of a running sequence
// has to be looked at, some touch is ready or some score changes; zero for none.
// What would go by an outbox that is stopped, or one of not, is left out.
func (db Queries) NextLook(ctx context.Context, not ...int64) (time.Time, error) {
	stopped, err := db.StoppedOutboxes(ctx)
	if err != nil {
		return time.Time{}, err
	}
	open, args := "", []any{}
	if not = append(stopped, not...); len(not) > 0 {
		open, args = " and (select "+outboxOf+" from person p where p.id = t.person_id) <> all ($1)", []any{not}
	}
	t, err := one[*time.Time](ctx, db, `
		with held as (select id from person where held_at is not null)
		select least(
			(select min(e.look) from enrolment e join sequence q on q.id = e.sequence_id
				where e.ended_at is null and q.state = 'running' and e.person_id <> all (array(select id from held))),
			(select lt.ready_at from letter lt join touch t on t.id = lt.touch_id join sequence q
				on q.id = t.sequence_id
				where lt.lane = 2 and lt.open and lt.phase = 'waiting' and q.state = 'running'
					and t.person_id <> all (array(select id from held))`+open+` order by lt.ready_at limit 1),
			(select lt.ready_at from letter lt join touch t on t.id = lt.touch_id
				where lt.lane = 1 and lt.open and lt.phase = 'waiting'`+open+` order by lt.ready_at limit 1),
			(select lt.ready_at from letter lt join touch t on t.id = lt.touch_id join mailing l on l.id = t.mailing_id
				where lt.lane = 3 and lt.open and lt.phase = 'waiting' and l.state in ('filling', 'sending')
					and t.person_id <> all (array(select id from held))`+open+` order by lt.ready_at limit 1),
			(select min(c.due) from comeback c join sequence q on q.id = c.sequence_id
				where c.done_at is null and q.state <> 'held'),
			(select min(clock_due) from handoff where state = 'open' and rep_id is not null and clock_due is not null),
			(select min(due) from score_lifted where due is not null and done_at is null),
			(
				select min(x.due)
				from score_model m, lateral (
					select due
					from standing
					where model_id = m.id and due is not null
					order by due
					limit 1) x
				where m.removed_at is null))`, args...)
	if err != nil || t == nil {
		return time.Time{}, err
	}
	return *t, nil
}

// Way is one person's way through one sequence, for showing.
type Way struct {
	ID       int64
	Sequence int64      `db:"sequence_id"`
	Name     string     // of the sequence
	Version  int64      `db:"version_id"`
	Person   int64      `db:"person_id"`
	Step     int32      `db:"step"`
	Entered  time.Time  `db:"entered_at"`
	Due      *time.Time `db:"due"`
	Ended    *time.Time `db:"ended_at"`
	Reason   string
	Held     bool
}

// PersonWays lists where a person stands and stood, the newest first.
func (db Queries) PersonWays(ctx context.Context, person int64) ([]Way, error) {
	return all[Way](ctx, db, `
		select e.id, e.sequence_id, q.name, e.version_id, e.person_id, e.step, e.entered_at, e.due, e.ended_at,
			e.reason, e.held
		from enrolment e join sequence q on q.id = e.sequence_id where e.person_id = $1 order by e.id desc limit 50`,
		person)
}

// WayLog is one line of a way's log.
type WayLog struct {
	Enrolment int64 `db:"enrolment_id"`
	Version   int64 `db:"version_id"`
	Sequence  int64 `db:"sequence_id"`
	Step      int32
	At        time.Time
	Exit      string
	Reason    string
}

// PersonLogs lists the steps a person did in all sequences, the newest first.
func (db Queries) PersonLogs(ctx context.Context, person int64) ([]WayLog, error) {
	return all[WayLog](ctx, db, `
		select l.enrolment_id, l.version_id, e.sequence_id, l.step, l.at, l.exit, l.reason
		from enrolment e
		join enrolment_log l on l.enrolment_id = e.id
		where e.person_id = $1
		order by l.at desc, l.id desc
		limit 500`, person)
}

// EnteredSince counts who has entered a sequence since an instant.
func (db Queries) EnteredSince(ctx context.Context, sequenceID int64, since time.Time) (int, error) {
	return one[int](ctx, db, "select count(*) from enrolment where sequence_id = $1 and entered_at >= $2", sequenceID,
		since)
}
