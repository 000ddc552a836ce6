package store

import (
	"context"
	"fmt"
	"time"

	"github.com/jackc/pgx/v5"

	"ombak/internal/core/contact"
	"ombak/internal/core/message"
	"ombak/internal/core/sequence"
)

// NewTouch is a touch that a step asks for.
type NewTouch struct {
	Enrolment, Sequence, Version, Person int64
	Step                                 sequence.StepID
	Kind                                 string // email or call
	State                                string // ready or desk
	At                                   time.Time
	Message                              int64
	MessageVersion                       int
	Ground                               contact.Ground
}

// MakeTouches keeps touches. One that its enrolment already has at its step is
// not made again, whatever asks for it. Calls go to the person's owner, else
// stay with nobody, for any rep to take.
func MakeTouches(ctx context.Context, tx Tx, list []NewTouch) error {
	n := len(list)
	enr, seq, ver, person, msg := make([]int64, n), make([]int64, n), make([]int64, n), make([]int64, n), make([]int64, n)
	step, mver := make([]int32, n), make([]int32, n)
	kind, state := make([]string, n), make([]string, n)
	at := make([]time.Time, n)
	purpose, ground, request := make([]int64, n), make([]string, n), make([]bool, n)
	for i, t := range list {
		purpose[i], ground[i], request[i] = t.Ground.Purpose, t.Ground.Other, t.Ground.Request
		enr[i], seq[i], ver[i], person[i], msg[i] = t.Enrolment, t.Sequence, t.Version, t.Person, t.Message
		step[i], mver[i], kind[i], state[i], at[i] = int32(t.Step), int32(t.MessageVersion), t.Kind, t.State, t.At
	}
	_, err := exec(ctx, tx, `
		insert into touch (enrolment_id, sequence_id, version_id, person_id, step, kind, state, made_at, ready_at,
			message_id, message_version, purpose_id, ground, request, rep_id)
		select u.enr, u.seq, u.ver, u.person, u.step, u.kind, u.state, u.at, u.at,
			nullif(u.msg, 0), nullif(u.mver, 0), nullif(u.purpose, 0), u.ground, u.request,
			case when u.kind = 'call' then (select p.owner_id from person p join app_user a on a.id = p.owner_id and a.role = 'rep' and a.left_at is null where p.id = u.person) end
		from unnest($1::bigint[], $2::bigint[], $3::bigint[], $4::bigint[], $5::int[], $6::text[], $7::text[], $8::timestamptz[], $9::bigint[], $10::int[],
			$11::bigint[], $12::text[], $13::boolean[])
			as u(enr, seq, ver, person, step, kind, state, at, msg, mver, purpose, ground, request)
		on conflict (enrolment_id, step) do nothing`,
		enr, seq, ver, person, step, kind, state, at, msg, mver, purpose, ground, request)
	if err != nil {
		return fmt.Errorf("making %d touches: %w", n, err)
	}
	return nil
}

// EndedTouch is a touch that is done or passed over.
type EndedTouch struct {
	Enrolment int64
	Step      int32
	At        time.Time
	Why       contact.Reason // it was passed over by itself
	What      sequence.Outcome
}

// EndedTouches reads those of some enrolments.
func EndedTouches(ctx context.Context, q querier, enrolments []int64) ([]EndedTouch, error) {
	rows, err := q.QueryxContext(ctx, `select enrolment_id, step, done_at, case when state = 'passed' then trouble else '' end, outcome
		from touch
		where enrolment_id = any ($1) and done_at is not null and state in ('sent', 'done', 'missed', 'passed')`, enrolments)
	if err != nil {
		return nil, fmt.Errorf("reading touches: %w", err)
	}
	defer rows.Close()
	var out []EndedTouch
	for rows.Next() {
		var t EndedTouch
		if err := rows.Scan(&t.Enrolment, &t.Step, &t.At, &t.Why, &t.What); err != nil {
			return nil, err
		}
		out = append(out, t)
	}
	return out, rows.Err()
}

// Withdraw takes back the touches of enrolments that have not gone out.
func Withdraw(ctx context.Context, tx Tx, enrolments []int64, why string, at time.Time) error {
	_, err := exec(ctx, tx, `update touch set state = 'withdrawn', done_at = $3, trouble = $2
		where enrolment_id = any ($1) and state in ('ready', 'claimed', 'stopped', 'desk')`, enrolments, why, at)
	return err
}

// MissedTouch is a call nobody made in time.
type MissedTouch struct {
	Enrolment int64
	Step      sequence.StepID
	At        time.Time
}

// MissTouches takes them off the desk.
func MissTouches(ctx context.Context, tx Tx, list []MissedTouch) error {
	enr, step, at := make([]int64, len(list)), make([]int32, len(list)), make([]time.Time, len(list))
	for i, m := range list {
		enr[i], step[i], at[i] = m.Enrolment, int32(m.Step), m.At
	}
	_, err := exec(ctx, tx, `update touch t set state = 'missed', done_at = u.at
		from unnest($1::bigint[], $2::int[], $3::timestamptz[]) as u(enr, step, at)
		where t.enrolment_id = u.enr and t.step = u.step and t.state = 'desk'`, enr, step, at)
	return err
}

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
	Sender    *int64 `db:"sender_id"`
	Campaign  string // what it is sent for: a campaign tag, else a name
}

// ClaimEmails takes up to n emails that are ready for worker, each with the
// Message-ID it will keep whatever happens. The last look at the person falls
// into the same transaction: an email whose enrolment has ended, or whose
// person must not get mail, is not claimed, and the rows are locked against a
// reply that comes at the same moment. Those of some outboxes are left.
func (s *Store) ClaimEmails(ctx context.Context, worker int64, domain string, now time.Time, n int, not []int64) ([]Outgoing, error) {
	var out []Outgoing
	err := s.InTx(ctx, func(tx Tx) error {
		// The first few of a million are wanted: the planner, which knows nothing of those that have just been written
		// down, would put all of them in order each time.
		if _, err := exec(ctx, tx, `select set_config('enable_sort', 'off', true), set_config('enable_bitmapscan', 'off', true),
			set_config('enable_mergejoin', 'off', true), set_config('plan_cache_mode', 'force_generic_plan', true)`); err != nil {
			return err
		}
		// Who is away gets theirs when they are back.
		if _, err := exec(ctx, tx, `with away as materialized (select id, away_until from person where away_until > $1)
			update touch t set ready_at = a.away_until from away a where t.person_id = a.id and t.state = 'ready' and t.ready_at <= $1 and t.kind = 'email' and (t.enrolment_id is not null or t.mailing_id is not null)`, now); err != nil {
			return err
		}
		if err := passOver(ctx, tx, now, n); err != nil {
			return err
		}
		stopped, err := StoppedOutboxes(ctx, tx)
		if err != nil {
			return err
		}
		c := claim{worker: worker, domain: domain, now: now, n: n, not: append(stopped, not...)}
		ids, err := claimSingles(ctx, tx, c)
		if err != nil {
			return err
		}
		if len(ids) < n {
			var more []int64
			more, err = all[int64](ctx, tx, `
			with picked as (
				select t.id from touch t
				join enrolment e on e.id = t.enrolment_id
				join person p on p.id = t.person_id
				join sequence q on q.id = t.sequence_id
				where t.state = 'ready' and t.mailing_id is null and t.ready_at <= $1 and e.ended_at is null and q.state = 'running'
					and (`+whyNot(contact.Email, touchGround)+`) is null and p.held_at is null
					and (p.stopped_at is null or p.stopped_at < e.entered_at)`+c.open()+`
				order by t.ready_at, t.id limit $2 for update of t, e skip locked)
			update touch t set state = 'claimed', claimed_at = $1, worker = $3, tries = t.tries + 1,
				mail_id = coalesce(t.mail_id, 't' || t.id || '.' || substr(md5(random()::text || t.id), 1, 12) || '@' || $4)
			from picked where t.id = picked.id returning t.id`, c.args(n-len(ids))...)
			ids = append(ids, more...)
		}
		if err == nil && len(ids) < n {
			var more []int64
			c.n = n - len(ids)
			more, err = claimMailings(ctx, tx, c)
			ids = append(ids, more...)
		}
		if err != nil || len(ids) == 0 {
			return err
		}
		out, err = all[Outgoing](ctx, tx, `
			with written as (
				update touch t set sender_id = a.id, address = p.email
				from message_version v, person p left join app_user o on o.id = p.owner_id and o.left_at is null, app_user a
				where a.left_at is null and t.id = any ($1) and v.message_id = t.message_id and v.version = t.message_version and p.id = t.person_id
					and a.id = coalesce(case when t.enrolment_id is null and t.mailing_id is null then t.sender_id end, case when v.from_owner then o.id end, v.sender_id)
				returning t.id, a.id as sender_id)
			select t.id, coalesce(t.enrolment_id, 0) as enrolment_id, coalesce(t.sequence_id, 0) as sequence_id, coalesce(t.version_id, 0) as version_id, coalesce(t.mailing_id, 0) as mailing_id, t.enrolment_id is null and t.mailing_id is null as single,
				t.enrolment_id is null and t.mailing_id is null and t.answer_id is null as by_hand, t.person_id, t.step, t.mail_id, t.message_id, t.message_version, t.tries, w.sender_id,
				coalesce(nullif(l.plan->'tags'->>'campaign', ''), l.name, q.name, g.title, '') as campaign
			from touch t left join written w on w.id = t.id left join mailing l on l.id = t.mailing_id left join sequence q on q.id = t.sequence_id
				left join page_answer a on a.id = t.answer_id left join page g on g.id = a.page_id where t.id = any ($1) order by t.id`, ids)
		return err
	})
	if err != nil {
		return nil, fmt.Errorf("claiming emails: %w", err)
	}
	return out, nil
}

// claim is who claims what.
type claim struct {
	worker int64
	domain string
	now    time.Time
	n      int
	not    []int64 // outboxes that are busy or stopped
}

// open is the condition that the outbox of a touch t is neither; $5 are those that are.
func (c *claim) open() string {
	if len(c.not) == 0 {
		return ""
	}
	return " and " + outboxOf + " <> all ($5)"
}

// args are $1 to $5 of a claim of up to n.
func (c *claim) args(n int) []any {
	args := []any{c.now, n, c.worker, c.domain}
	if len(c.not) > 0 {
		args = append(args, c.not)
	}
	return args
}

// passOver takes back emails of sequences that are ready and whose readers may
// not get them any more, with the reason, and has their ways looked at: they go
// on without it, or leave.
func passOver(ctx context.Context, tx Tx, now time.Time, n int) error {
	_, err := exec(ctx, tx, `
		with due as (
			select t.id, t.enrolment_id, `+whyNot(contact.Email, touchGround)+` as why
			from touch t join enrolment e on e.id = t.enrolment_id
			join person p on p.id = t.person_id
			join sequence q on q.id = t.sequence_id
			where t.state = 'ready' and t.mailing_id is null and t.ready_at <= $1 and e.ended_at is null
				and q.state = 'running' and p.held_at is null
			order by t.ready_at, t.id limit $2 for update of t, e skip locked),
		passed as (
			update touch t set state = 'passed', trouble = due.why, done_at = $1
			from due where t.id = due.id and due.why is not null returning t.enrolment_id)
		update enrolment e set look = least(e.look, $1) from passed where e.id = passed.enrolment_id`, now, n)
	return err
}

// claimSingles takes emails that belong to neither, as ClaimEmails does, before
// all others: somebody waits for them.
// What a form was asked to send
// is the reader's own request once the address has proved itself, and claimed
// before that.
func claimSingles(ctx context.Context, tx Tx, c claim) ([]int64, error) {
	const single = "t.state = 'ready' and t.kind = 'email' and t.enrolment_id is null and t.mailing_id is null and t.ready_at <= $1"
	g := touchGround
	proved := "exists (select from page_answer a where a.id = t.answer_id and a.proved_at > a.at)"
	g.request, g.claimed = "(t.answer_id is not null and "+proved+")", "(t.answer_id is not null)"
	why := whyNot(contact.Email, g)
	if _, err := exec(ctx, tx, `with due as (select t.id, `+why+` as why from touch t join person p on p.id = t.person_id where `+single+` order by t.ready_at, t.id limit $2 for update of t skip locked)
		update touch t set state = 'withdrawn', trouble = due.why, done_at = $1 from due where t.id = due.id and due.why is not null`, c.now, c.n); err != nil {
		return nil, err
	}
	return all[int64](ctx, tx, `with picked as (
			select t.id from touch t join person p on p.id = t.person_id where `+single+` and (`+why+`) is null`+c.open()+` order by t.ready_at, t.id limit $2 for update of t, p skip locked)
		update touch t set state = 'claimed', claimed_at = $1, worker = $3, tries = t.tries + 1,
			mail_id = coalesce(t.mail_id, 't' || t.id || '.' || substr(md5(random()::text || t.id), 1, 12) || '@' || $4)
		from picked where t.id = picked.id returning t.id`, c.args(c.n)...)
}

// claimMailings takes emails of mailings that are ready, as ClaimEmails does.
// Those whose readers must not get one any more are taken back first, with the
// reason. The reader's row is locked against an opt-out at the same moment.
func claimMailings(ctx context.Context, tx Tx, c claim) ([]int64, error) {
	why := "coalesce(" + whyNot(contact.Email, touchGround) + `,
		case when p.stopped_at >= l.launched_at then 'answered meanwhile' end)`
	if _, err := exec(ctx, tx, `with due as (select t.id, `+why+` as why from touch t join mailing l on l.id = t.mailing_id join person p on p.id = t.person_id
			where t.state = 'ready' and t.ready_at <= $1 and t.mailing_id is not null and l.state in ('filling', 'sending') order by t.ready_at, t.id limit $2 for update of t skip locked)
		update touch t set state = 'withdrawn', trouble = due.why, done_at = $1 from due where t.id = due.id and due.why is not null`, c.now, c.n); err != nil {
		return nil, err
	}
	return all[int64](ctx, tx, `with picked as (
			select t.id from touch t join mailing l on l.id = t.mailing_id join person p on p.id = t.person_id
			where t.state = 'ready' and t.ready_at <= $1 and t.mailing_id is not null and l.state in ('filling', 'sending') and (`+why+`) is null and p.held_at is null`+c.open()+`
			order by t.ready_at, t.id limit $2 for update of t, p skip locked)
		update touch t set state = 'claimed', claimed_at = $1, worker = $3, tries = t.tries + 1,
			mail_id = coalesce(t.mail_id, 't' || t.id || '.' || substr(md5(random()::text || t.id), 1, 12) || '@' || $4)
		from picked where t.id = picked.id returning t.id`, c.args(c.n)...)
}

// SentBefore is an email that went out to somebody on their way.
type SentBefore struct {
	Enrolment int64 `db:"enrolment_id"`
	Step      int32
	MailID    string `db:"mail_id"`
	Subject   string
}

// SentInWays lists the emails that some ways have sent.
func SentInWays(ctx context.Context, q querier, enrolments []int64) ([]SentBefore, error) {
	return all[SentBefore](ctx, q, "select enrolment_id, step, mail_id, subject from touch where enrolment_id = any ($1) and kind = 'email' and state = 'sent' and mail_id is not null", enrolments)
}

// EndTouch moves a claimed or held touch on: to sent, held, stopped, passed or
// back to ready. It answers false where the touch is in another state by now.
func EndTouch(ctx context.Context, tx Tx, id int64, state, subject, trouble string, at time.Time, ready time.Time) (bool, error) {
	n, err := exec(ctx, tx, `update touch set state = $2, trouble = $4,
			subject = case when $3 = '' then subject else $3 end,
			done_at = case when $2 in ('sent', 'passed') then $5::timestamptz end,
			ready_at = case when $2 = 'ready' then $6::timestamptz else ready_at end,
			worker = null
		where id = $1 and state in ('claimed', 'sending', 'held', 'stopped')`, id, state, subject, trouble, at, ready)
	return n == 1, err
}

// HoldOrphans looks after the emails of workers that are gone. One that was
// being sent is held: whether it went out nobody knows. Those that were only
// claimed are ready again, under the Message-ID they have. It answers how many
// are held.
func (s *Store) HoldOrphans(ctx context.Context, why string) (int64, error) {
	var held int64
	err := s.InTx(ctx, func(tx Tx) error {
		held = 0
		workers, err := all[int64](ctx, tx, "select distinct worker from touch where state in ('claimed', 'sending')")
		if err != nil {
			return err
		}
		for _, w := range workers {
			gone, err := one[bool](ctx, tx, "select pg_try_advisory_xact_lock($1)", w)
			if err != nil {
				return err
			}
			if !gone {
				continue
			}
			n, err := giveBack(ctx, tx, w, why)
			if err != nil {
				return err
			}
			held += n
		}
		return nil
	})
	return held, err
}

// Worker is a working process's hold on its name. As long as its connection
// lives, others see that the process does.
type Worker struct {
	ID   int64
	conn *pgx.Conn
}

// NewWorker registers this process.
func (s *Store) NewWorker(ctx context.Context, at time.Time) (*Worker, error) {
	conn, err := s.Pool.Acquire(ctx)
	if err != nil {
		return nil, err
	}
	c := conn.Hijack() // the lock belongs to the connection: it must never go back
	w := &Worker{conn: c}
	err = c.QueryRow(ctx, "insert into worker (started_at) values ($1) returning id", at).Scan(&w.ID)
	if err == nil {
		_, err = c.Exec(ctx, "select pg_advisory_lock($1)", w.ID)
	}
	if err != nil {
		w.Close()
		return nil, fmt.Errorf("registering a worker: %w", err)
	}
	return w, nil
}

// Close gives the name up.
func (w *Worker) Close() { w.conn.Close(context.Background()) }

// Alive reports that the database still sees the worker, or why not.
func (w *Worker) Alive(ctx context.Context) error {
	ctx, cancel := context.WithTimeout(ctx, 10*time.Second)
	defer cancel()
	return w.conn.Ping(ctx)
}

// GiveBack gives back what a worker has claimed: an email that was only claimed
// is ready again, under the Message-ID it has; one that was being sent is held.
// It answers how many are held.
func (s *Store) GiveBack(ctx context.Context, worker int64, why string) (held int64, err error) {
	err = s.InTx(ctx, func(tx Tx) error {
		held, err = giveBack(ctx, tx, worker, why)
		return err
	})
	return held, err
}

func giveBack(ctx context.Context, tx Tx, worker int64, why string) (held int64, err error) {
	held, err = exec(ctx, tx, "update touch set state = 'held', trouble = $2 where state = 'sending' and worker = $1", worker, why)
	if err != nil {
		return 0, err
	}
	_, err = exec(ctx, tx, `update touch set state = 'ready', worker = null, tries = greatest(tries - 1, 0)
		where state = 'claimed' and worker = $1`, worker)
	return held, err
}

// Touch is a touch as it is shown.
type Touch struct {
	ID        int64
	Enrolment int64      `db:"enrolment_id"`
	Sequence  int64      `db:"sequence_id"`
	Version   int64      `db:"version_id"`
	Mailing   int64      `db:"mailing_id"`
	Person    int64      `db:"person_id"`
	Step      int32      `db:"step"`
	Kind      string     `db:"kind"`
	State     string     `db:"state"`
	Made      time.Time  `db:"made_at"`
	Ready     time.Time  `db:"ready_at"`
	Done      *time.Time `db:"done_at"`
	MailID    *string    `db:"mail_id"`
	Message   *int64     `db:"message_id"`
	Subject   string
	Address   string
	Rep       *int64 `db:"rep_id"`
	Outcome   string
	Notes     string
	Trouble   string

	First, Last, Email string
	Company            string
	SequenceName       string `db:"sequence_name"`
	Zone, Country      string
	City, Phone, Title string
	Score              float64
}

const touchFields = `select t.id, coalesce(t.enrolment_id, 0) as enrolment_id, coalesce(t.sequence_id, 0) as sequence_id, coalesce(t.version_id, 0) as version_id, coalesce(t.mailing_id, 0) as mailing_id, t.person_id, t.step, t.kind, t.state, t.made_at, t.ready_at, t.done_at,
	t.mail_id, t.message_id, t.subject, t.address, t.rep_id, t.outcome, t.notes, t.trouble,
	p.first_name as first, p.last_name as last, p.email, p.zone, p.country, p.city, p.phone, p.title, coalesce(c.name, '') as company, coalesce(q.name, l.name, g.title, case when t.once is not null then 'by hand' else '' end) as sequence_name,
	coalesce((select max(score) from standing where person_id = p.id), 0) as score from `

const touchJoins = ` t join person p on p.id = t.person_id left join company c on c.id = p.company_id left join sequence q on q.id = t.sequence_id left join mailing l on l.id = t.mailing_id left join page_answer a on a.id = t.answer_id left join page g on g.id = a.page_id `

// Touch reads one.
func (s *Store) Touch(ctx context.Context, id int64) (Touch, error) {
	return one[Touch](ctx, s.db, touchFields+"touch"+touchJoins+"where t.id = $1", id)
}

// DeskCalls lists the calls on a rep's desk, and those no rep owns, the
// longest waiting first; rep 0 stands for everybody's.
func (s *Store) DeskCalls(ctx context.Context, rep int64) ([]Touch, error) {
	return all[Touch](ctx, s.db, touchFields+"touch"+touchJoins+"where t.state = 'desk' and ($1 = 0 or t.rep_id = $1 or t.rep_id is null) order by t.ready_at, t.id limit 200", rep)
}

// Trouble lists the emails somebody has to look at, the oldest first.
func (s *Store) Trouble(ctx context.Context, n int) ([]Touch, error) {
	return all[Touch](ctx, s.db, touchFields+"touch"+touchJoins+"where t.state in ('held', 'stopped') order by t.id limit $1", n)
}

// PersonTouches lists a person's touches, the newest first.
func (s *Store) PersonTouches(ctx context.Context, person int64) ([]Touch, error) {
	return all[Touch](ctx, s.db, touchFields+"touch"+touchJoins+"where t.person_id = $1 order by t.made_at desc, t.id desc limit 500", person)
}

// FinishCall records the outcome of a call and who made it. It answers
// ErrNotFound where the call is no longer on the desk.
func FinishCall(ctx context.Context, tx Tx, id, rep int64, outcome, notes string, at time.Time) (Touch, error) {
	return one[Touch](ctx, tx, `with done as (
			update touch set state = 'done', done_at = $5, outcome = $3, notes = $4, rep_id = $2 where id = $1 and state = 'desk' returning *)
		`+touchFields+"done"+touchJoins, id, rep, outcome, notes, at)
}

// TouchByMailID finds the touch a Message-ID belongs to.
func TouchByMailID(ctx context.Context, q querier, ids []string) (Touch, error) {
	return one[Touch](ctx, q, touchFields+"touch"+touchJoins+"where t.mail_id = any ($1) order by t.id desc limit 1", ids)
}

// SentLink is an email that was sent, with whose words and what was changed in
// them for its reader.
type SentLink struct {
	Touch    int64
	Person   int64 `db:"person_id"`
	Sequence int64 `db:"sequence_id"`
	Step     int32
	Message  int64 `db:"message_id"`
	Version  int   `db:"message_version"`
	Mailing  int64 `db:"mailing_id"`
	Answer   int64 `db:"answer_id"` // the form that asked for it
	Edit     JSON[*message.Edit]
	Sent     *time.Time `db:"done_at"`
}

// SentLink reads the email that a touch sent.
func (s *Store) SentLink(ctx context.Context, touch int64) (SentLink, error) {
	return one[SentLink](ctx, s.db, `select t.id as touch, t.person_id, coalesce(t.sequence_id, 0) as sequence_id, coalesce(t.mailing_id, 0) as mailing_id, coalesce(t.answer_id, 0) as answer_id, t.step, t.message_id, t.message_version, t.edit, t.done_at
		from touch t where t.id = $1 and t.kind = 'email' and t.state in ('sent', 'sending', 'held')`, touch)
}

// Sending reports whether some worker has claimed emails that it has not done
// with.
func (s *Store) Sending(ctx context.Context) (bool, error) {
	return one[bool](ctx, s.db, "select exists (select from touch where state in ('claimed', 'sending'))")
}

// ByHandGround is the ground of what somebody writes to one person.
const ByHandGround = "written by hand"

// SendByHand has a worker send a message that somebody wrote to one person. The
// message is on no list. What the same form has sent already is not sent again.
func SendByHand(ctx context.Context, tx Tx, m Message, person, user int64, once string, at time.Time) error {
	there, err := one[bool](ctx, tx, "select exists (select from touch where once = $1)", once)
	if err != nil || there {
		return err
	}
	id, err := SaveMessage(ctx, tx, m, user, at)
	if err != nil {
		return err
	}
	if _, err := exec(ctx, tx, "update message set removed_at = 'epoch' where id = $1", id); err != nil {
		return err
	}
	_, err = exec(ctx, tx, `insert into touch (person_id, step, kind, state, made_at, ready_at, message_id, message_version,
			sender_id, once, ground)
		values ($1, 0, 'email', 'ready', $2, $2, $3, 1, $4, $5, $6) on conflict (once) where once is not null do nothing`, person, at, id, user, once, ByHandGround)
	return err
}
