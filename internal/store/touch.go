package store

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/jackc/pgx/v5/pgtype"

	"ombak/internal/core/contact"
	"ombak/internal/core/message"
	"ombak/internal/core/sequence"
	"ombak/internal/core/touch"
)

// NewTouch is a touch that a step asks for.
type NewTouch struct {
	Enrolment, Sequence, Version, Person int64
	Step                                 sequence.StepID
	Kind                                 touch.Kind
	Visit                                int // the how-manieth of the step; 0 is 1
	At                                   time.Time
	Due                                  time.Time // when its step gives up; zero: it has no such instant
	Message                              int64
	MessageVersion                       int
	Ground                               contact.Ground
	From                                 int64 // by whose account an email goes out; 0: as its message says
	For                                  int64 // whose desk work comes to; 0: the owner's, where that is a rep
	Team                                 int64 // of whom any may take it; 0: For
}

// MakeTouches keeps touches. One that its enrolment already has at its
// visit of the step is not made again, whatever asks for it. Work goes to whom it is for: a
// team's to nobody yet, for any of it to take; else to the person's owner, else it stays with
// nobody, for any rep to take.
func (tx Tx) MakeTouches(ctx context.Context, list []NewTouch) error {
	emails := map[int64][]NewTouch{} // by whose account they go out
	var work []NewTouch
	for _, t := range list {
		if t.Kind == touch.Email {
			emails[t.From] = append(emails[t.From], t)
		} else {
			work = append(work, t)
		}
	}
	for _, from := range slices.Sorted(maps.Keys(emails)) {
		if err := tx.makeEmails(ctx, emails[from], from); err != nil {
			return fmt.Errorf("making %d emails: %w", len(emails[from]), err)
		}
	}
	if len(work) > 0 {
		if err := tx.makeWork(ctx, work); err != nil {
			return fmt.Errorf("making %d touches: %w", len(work), err)
		}
	}
	return nil
}

// makingTouches makes them, from columns; what follows may ask "made" for those that are new.
const makingTouches = `
		with made as (
			insert into touch (enrolment_id, sequence_id, version_id, person_id, step, visit, kind, state, made_at,
				message_id, message_version, purpose_id, ground, request)
			select u.enr, u.seq, u.ver, u.person, u.step, u.visit, u.kind, case u.kind when 'email' then 'ready'
				else 'desk' end,
				u.at, nullif(u.msg, 0), nullif(u.mver, 0), nullif(u.purpose, 0), u.ground, u.request
			from unnest($1::bigint[], $2::bigint[], $3::bigint[], $4::bigint[], $5::int[], $6::int[], $7::text[],
					$8::timestamptz[], $9::bigint[], $10::int[], $11::bigint[], $12::text[], $13::boolean[])
				as u(enr, seq, ver, person, step, visit, kind, at, msg, mver, purpose, ground, request)
			on conflict (enrolment_id, step, visit) where enrolment_id is not null do nothing
			returning id, kind, person_id, made_at, enrolment_id, step, visit)`

// columnsOf are those that makingTouches is asked with.
func columnsOf(list []NewTouch) []any {
	n := len(list)
	enr, seq, ver, person, msg := make([]int64, n), make([]int64, n), make([]int64, n), make([]int64, n),
		make([]int64, n)
	step, mver, visit := make([]int32, n), make([]int32, n), make([]int32, n)
	kind, at := make([]string, n), make([]time.Time, n)
	purpose, ground, request := make([]int64, n), make([]string, n), make([]bool, n)
	for i, t := range list {
		purpose[i], ground[i], request[i] = t.Ground.Purpose, t.Ground.Other, t.Ground.Request
		enr[i], seq[i], ver[i], person[i], msg[i] = t.Enrolment, t.Sequence, t.Version, t.Person, t.Message
		step[i], mver[i], kind[i], at[i], visit[i] = int32(t.Step), int32(t.MessageVersion), string(t.Kind), t.At,
			int32(max(t.Visit, 1))
	}
	return []any{enr, seq, ver, person, step, visit, kind, at, msg, mver, purpose, ground, request}
}

// makeEmails makes those that go out by somebody's account (0: as their messages say). It joins them with nothing: of
// some hundreds the database expects a few, and would look through all of what they are joined with for each.
func (tx Tx) makeEmails(ctx context.Context, list []NewTouch, from int64) error {
	_, err := exec(ctx, tx, makingTouches+`
		insert into letter (touch_id, lane, ready_at, from_id)
		select made.id, $14, made.made_at, (select id from app_user where id = $15)
		from made`, append(columnsOf(list), int16(touch.OfWay), from)...)
	return err
}

func (tx Tx) makeWork(ctx context.Context, list []NewTouch) error {
	n := len(list)
	due := make([]pgtype.Timestamptz, n)
	whose, team := make([]int64, n), make([]int64, n)
	for i, t := range list {
		whose[i], team[i], due[i] = t.For, t.Team, stamp(t.Due)
	}
	_, err := exec(ctx, tx, makingTouches+`
		insert into work (touch_id, kind, ready_at, due_at, team_id, rep_id)
		select made.id, made.kind, made.made_at, coalesce(w.due, made.made_at + interval '7 days'), g.id,
			case when g.id is null then coalesce(own.id, a.id) end
		from made
		join person p on p.id = made.person_id
		join unnest($1::bigint[], $5::int[], $6::int[], $14::bigint[], $15::bigint[],
				$16::timestamptz[]) as w(enr, step, visit, whose, team, due)
			on w.enr = made.enrolment_id and w.step = made.step and w.visit = made.visit
		left join app_user own on own.id = w.whose and own.left_at is null
		left join app_user a on a.id = p.owner_id and a.role = 'rep' and a.left_at is null
		left join team g on g.id = w.team and g.removed_at is null`,
		planned(append(columnsOf(list), whose, team, due))...)
	return err
}

// EndedTouch is a touch that is done or passed over.
type EndedTouch struct {
	Enrolment int64
	Step      int32
	Visit     int32 // of the step
	At        time.Time
	Why       contact.Reason // it was passed over by itself
	What      sequence.Outcome
}

// EndedTouches reads those of some enrolments.
func (db Queries) EndedTouches(ctx context.Context, enrolments []int64) ([]EndedTouch, error) {
	rows, err := db.QueryxContext(ctx, `
		select t.enrolment_id, t.step, t.visit, t.done_at, case when t.state = 'passed' then t.trouble else '' end,
			coalesce(w.outcome, '')
		from touch t
		left join work w on w.touch_id = t.id
		where t.enrolment_id = any ($1) and t.done_at is not null and t.state in ('sent', 'done', 'missed', 'passed')`,
		enrolments)
	if err != nil {
		return nil, fmt.Errorf("reading touches: %w", err)
	}
	defer rows.Close()
	var out []EndedTouch
	for rows.Next() {
		var t EndedTouch
		if err := rows.Scan(&t.Enrolment, &t.Step, &t.Visit, &t.At, &t.Why, &t.What); err != nil {
			return nil, err
		}
		out = append(out, t)
	}
	return out, rows.Err()
}

// LastTouch is when marketing last reached somebody: by an email, and by anything; zero:
// never.
type LastTouch struct{ Email, Any time.Time }

// reaches is that marketing reaches somebody by a touch t, or will.
const reaches = `t.state not in ('withdrawn', 'passed', 'missed', 'stopped') and not t.request and t.once is null
			and t.answer_id is null and t.kind <> 'task'`

// LastTouches reads, of some people, when marketing last reached them from anywhere. What
// waits to go out counts as of when it was made; what answered their own request, and what
// somebody wrote by hand, does not.
func (db Queries) LastTouches(ctx context.Context, people []int64) (map[int64]LastTouch, error) {
	rows, err := all[struct {
		Person int64      `db:"person_id"`
		Email  *time.Time `db:"email"`
		Any    time.Time  `db:"any"`
	}](ctx, db, `
		select person_id, max(coalesce(done_at, made_at)) filter (where kind = 'email') as email,
			max(coalesce(done_at, made_at)) as "any"
		from touch t
		where person_id = any ($1) and `+reaches+`
		group by 1`, people)
	if err != nil {
		return nil, fmt.Errorf("reading when people were last reached: %w", err)
	}
	out := make(map[int64]LastTouch, len(people))
	for _, id := range people {
		out[id] = LastTouch{}
	}
	for _, r := range rows {
		last := LastTouch{Any: r.Any}
		if r.Email != nil {
			last.Email = *r.Email
		}
		out[r.Person] = last
	}
	return out, nil
}

// LockRests has whoever walks some people on, or writes to them, do so one after the other, until the transaction ends.
// Each of them is a lock that the database has room for: a thousand are many.
func (tx Tx) LockRests(ctx context.Context, people []int64) error {
	_, err := exec(ctx, tx, `
		select pg_advisory_xact_lock($2, id::int) from (
			select distinct id from unnest($1::bigint[]) as u(id) order by id) x`, people, lockRest)
	return err
}

// withdraw takes back touches t that have not gone out, with the reason, and
// answers how many. A letter that is being sent is past that. Parameters of where
// begin at $3.
func withdraw(ctx context.Context, tx Tx, why string, at time.Time, where string, args ...any) (int64, error) {
	return exec(ctx, tx, `
		with letters as (
			update letter l set phase = 'over'
			from touch t
			where t.id = l.touch_id and `+where+`
				and (l.phase in ('waiting', 'claimed') or l.phase = 'aside' and t.state = 'stopped')
			returning l.touch_id),
		works as (
			update work w set open = false
			from touch t
			where t.id = w.touch_id and w.open and `+where+`
			returning w.touch_id)
		update touch t set state = 'withdrawn', trouble = $1, done_at = $2
		from (select touch_id from letters union all select touch_id from works) gone
		where t.id = gone.touch_id`, append([]any{why, at}, args...)...)
}

// Withdraw takes back the touches of enrolments that have not gone out.
func (tx Tx) Withdraw(ctx context.Context, enrolments []int64, why string, at time.Time) error {
	_, err := withdraw(ctx, tx, why, at, "t.enrolment_id = any ($3)", enrolments)
	return err
}

// MissedTouch is a call nobody made in time.
type MissedTouch struct {
	Enrolment int64
	Step      sequence.StepID
	Visit     int32 // of the step; 0 is 1
	At        time.Time
}

// MissTouches takes them off the desk.
func (tx Tx) MissTouches(ctx context.Context, list []MissedTouch) error {
	enr, step, visit, at := make([]int64, len(list)), make([]int32, len(list)), make([]int32, len(list)),
		make([]time.Time, len(list))
	for i, m := range list {
		enr[i], step[i], visit[i], at[i] = m.Enrolment, int32(m.Step), max(m.Visit, 1), m.At
	}
	_, err := exec(ctx, tx, `
		with missed as (
			update work w set open = false
			from unnest($1::bigint[], $2::int[], $3::int[], $4::timestamptz[]) as u(enr, step, visit, at)
			join touch t on t.enrolment_id = u.enr and t.step = u.step and t.visit = u.visit
			where w.touch_id = t.id and w.open
			returning w.touch_id, u.at)
		update touch t set state = 'missed', done_at = missed.at from missed where t.id = missed.touch_id`, enr, step,
		visit, at)
	return err
}

// Touch is a touch as it is shown.
type Touch struct {
	ID        int64
	Enrolment int64       `db:"enrolment_id"`
	Sequence  int64       `db:"sequence_id"`
	Version   int64       `db:"version_id"`
	Mailing   int64       `db:"mailing_id"`
	Person    int64       `db:"person_id"`
	Step      int32       `db:"step"`
	Kind      touch.Kind  `db:"kind"`
	State     touch.State `db:"state"`
	Made      time.Time   `db:"made_at"`
	Ready     time.Time   `db:"ready_at"`
	Done      *time.Time  `db:"done_at"`
	MailID    *string     `db:"mail_id"`
	Message   *int64      `db:"message_id"`
	Subject   string
	Address   string
	Rep       *int64 `db:"rep_id"`
	Team      string // whose it is to take; empty: no team's
	Outcome   string
	Notes     string
	Trouble   string

	First, Last, Email string
	Company            string
	SequenceName       string `db:"sequence_name"`
	Zone, Country      string
	City, Phone, Title string
	Profile            string
	Score              float64
}

const touchFields = `
		select t.id, coalesce(t.enrolment_id, 0) as enrolment_id, coalesce(t.sequence_id, 0) as sequence_id,
		coalesce(t.version_id, 0) as version_id, coalesce(t.mailing_id, 0) as mailing_id, t.person_id, t.step, t.kind,
			t.state,
		t.made_at, coalesce(lt.ready_at, w.ready_at, t.made_at) as ready_at, t.done_at, lt.mail_id, t.message_id,
		coalesce(lt.subject, '') as subject, coalesce(lt.address, '') as address, w.rep_id,
			coalesce(tm.name, '') as team,
			coalesce(w.outcome, '') as outcome,
		coalesce(w.notes, '') as notes, coalesce(nullif(t.trouble, ''), lt.trouble, '') as trouble,
		p.first_name as first, p.last_name as last, p.email, p.zone, p.country, p.city, p.phone, p.profile, p.title,
		coalesce(c.name, '') as company,
		coalesce(q.name, l.name, g.title, case when t.once is not null then 'by hand' else '' end) as sequence_name,
		` + firstScore + ` as score
	from touch t
	join person p on p.id = t.person_id
	left join letter lt on lt.touch_id = t.id
	left join work w on w.touch_id = t.id
	left join team tm on tm.id = w.team_id
	left join company c on c.id = p.company_id
	left join sequence q on q.id = t.sequence_id
	left join mailing l on l.id = t.mailing_id
	left join page_answer a on a.id = t.answer_id
	left join page g on g.id = a.page_id `

// Touch reads one.
func (db Queries) Touch(ctx context.Context, id int64) (Touch, error) {
	return one[Touch](ctx, db, touchFields+"where t.id = $1", id)
}

// ofTeam is that something is for no team, or for that of a user.
func ofTeam(of, user string) string {
	return "(" + of + ".team_id is null or " + of + ".team_id = (select team_id from app_user where id = " + user + "))"
}

// DeskWork lists the calls, social touches and tasks of steps on a user's desk, and those nobody
// owns, the longest waiting first; rep 0 stands for everybody's.
func (db Queries) DeskWork(ctx context.Context, rep int64) ([]Touch, error) {
	return all[Touch](ctx, db,
		touchFields+
			"where w.open and t.kind <> 'post' and ($1 = 0 or w.rep_id = $1 or w.rep_id is null and "+
			ofTeam("w", "$1")+") "+
			"order by w.ready_at, t.id limit 200", rep)
}

// Trouble lists the emails somebody has to look at, the oldest first.
func (db Queries) Trouble(ctx context.Context, n int) ([]Touch, error) {
	return all[Touch](ctx, db, touchFields+"where lt.aside order by t.id limit $1", n)
}

// TouchesOf lists the last touches of some people, the newest first.
func (db Queries) TouchesOf(ctx context.Context, of Last) ([]Touch, error) {
	ids, err := of.ids(ctx, db, "touch", "made_at")
	if err != nil || len(ids) == 0 {
		return nil, err
	}
	return all[Touch](ctx, db, touchFields+"where t.id = any ($1) order by t.made_at desc, t.id desc", ids)
}

// FinishWork records the outcome of work and who did it. It answers ErrNotFound where it
// is no longer on the desk.
func (tx Tx) FinishWork(ctx context.Context, id, rep int64, outcome, notes string, at time.Time) (Touch, error) {
	n, err := exec(ctx, tx, `
		with done as (
			update work
			set open = false, outcome = $3, notes = $4, rep_id = $2
			where touch_id = $1 and open
			returning touch_id)
		update touch t set state = 'done', done_at = $5 from done where t.id = done.touch_id`, id, rep, outcome, notes,
		at)
	if err == nil && n == 0 {
		err = ErrNotFound
	}
	if err != nil {
		return Touch{}, err
	}
	return one[Touch](ctx, tx, touchFields+"where t.id = $1", id)
}

// TouchByMailID finds the touch that a Message-ID belongs to, by the number in it:
// the newest of several.
func (db Queries) TouchByMailID(ctx context.Context, ids []string) (Touch, error) {
	var touches []int64
	for _, id := range ids {
		number, _, _ := strings.Cut(strings.TrimPrefix(id, "t"), ".")
		if n, err := strconv.ParseInt(number, 10, 64); err == nil {
			touches = append(touches, n)
		}
	}
	return one[Touch](ctx, db, touchFields+"where t.id = any ($1) and lt.mail_id = any ($2) order by t.id desc limit 1",
		touches, ids)
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
	// What PressedLink tells besides: whether the link that nobody sees was followed of late, and the sites of our own.
	Trapped bool
	Sites   JSON[[]string]
}

// SentLink reads the email that a touch sent.
func (db Queries) SentLink(ctx context.Context, id int64) (SentLink, error) {
	return one[SentLink](ctx, db, sentLink+sentTouch, id)
}

// PressedLink is SentLink, and whether somebody followed since an instant the link of it that no reader sees, and what
// else is asked when a link is pressed.
func (db Queries) PressedLink(ctx context.Context, id int64, since time.Time) (SentLink, error) {
	return one[SentLink](ctx, db, sentLink+`, exists (
			select
			from signal s
			where s.person_id = t.person_id and s.at > $2 and s.touch_id = t.id and s.kind = {click}
				and s.link = $3) as trapped,
			coalesce((select jsonb_agg(origin) from site), '[]') as sites`+sentTouch, id, since, TrapLink)
}

const sentLink = `
	select t.id as touch, t.person_id, coalesce(t.sequence_id, 0) as sequence_id,
		coalesce(t.mailing_id, 0) as mailing_id, coalesce(t.answer_id, 0) as answer_id, t.step,
		t.message_id, t.message_version, l.edit, t.done_at`

const sentTouch = `
	from touch t
	join letter l on l.touch_id = t.id
	where t.id = $1 and (t.state in ('sent', 'held') or l.phase = 'sending')`

// Sending reports whether some worker has claimed emails that it has not done
// with.
func (db Queries) Sending(ctx context.Context) (bool, error) {
	return one[bool](ctx, db, "select exists (select from letter where open and phase <> 'waiting')")
}

// ByHandGround is the ground of what somebody writes to one person.
const ByHandGround = "written by hand"

// SendByHand has a worker send a message that somebody wrote to one person. The
// message is on no list. What the same form has sent already is not sent again.
func (tx Tx) SendByHand(ctx context.Context, m Message, h HandWritten, at time.Time) error {
	person, user, once := h.Person, h.User, h.Once
	there, err := one[bool](ctx, tx, "select exists (select from touch where once = $1)", once)
	if err != nil || there {
		return err
	}
	id, err := tx.SaveMessage(ctx, m, user, at)
	if err != nil {
		return err
	}
	if _, err := exec(ctx, tx, "update message set removed_at = 'epoch' where id = $1", id); err != nil {
		return err
	}
	_, err = exec(ctx, tx, `
		with made as (
			insert into touch (person_id, step, kind, state, made_at, message_id, message_version, once, ground,
				request)
			values ($1, 0, 'email', 'ready', $2, $3, 1, $4, $5, $8 <> 0 or $9::bytea is not null)
			on conflict (once) where once is not null do nothing
			returning id)
		insert into letter (touch_id, lane, ready_at, sender_id, answers, invite)
		select id, $6, $2, $7, nullif($8::bigint, 0), $9 from made`,
		person, at, id, once, ByHandGround, int16(touch.Single), user, h.Answers, h.Invite)
	return err
}

// HandWritten is to whom somebody wrote, and with which form. Where it answers a letter of theirs,
// that rests on their own request.
type HandWritten struct {
	Person, User int64
	Once         string
	Answers      int64 // 0: none
	// Invite goes with it: an invitation, a move or a cancellation of a meeting; empty and not nil:
	// none yet. It rests on their own request, as what answers a letter does.
	Invite []byte
}

// CardStep is a step whose cards wait for the printer.
type CardStep struct {
	Sequence int64 `db:"sequence_id"`
	Name     string
	Step     int32
	N        int64
	Since    time.Time
	Version  int64 `db:"version_id"` // of the newest of them
}

// CardSteps lists the steps whose cards wait, the longest waiting first.
func (db Queries) CardSteps(ctx context.Context) ([]CardStep, error) {
	return all[CardStep](ctx, db, `
		select t.sequence_id, q.name, t.step, count(*) as n, min(t.made_at) as since, max(t.version_id) as version_id
		from work w
		join touch t on t.id = w.touch_id
		join sequence q on q.id = t.sequence_id
		where w.open and w.kind = 'post'
		group by t.sequence_id, q.name, t.step
		order by since, t.sequence_id, t.step
		limit 200`)
}

// WaitingCards lists the cards of a step that wait, the longest waiting first.
func (db Queries) WaitingCards(ctx context.Context, sequenceID int64, step int32, n int) ([]Touch, error) {
	return all[Touch](ctx, db, touchFields+
		`where t.id in (
			select w.touch_id
			from work w
			join touch x on x.id = w.touch_id
			where w.open and w.kind = 'post' and x.sequence_id = $1 and x.step = $2
			order by w.touch_id
			limit $3)
		order by t.id`, sequenceID, step, n)
}

// FinishCards records the outcome of cards of a step that still wait, and answers the
// enrolments that they are of.
func (tx Tx) FinishCards(
	ctx context.Context, sequenceID int64, step int32, touches []int64, outcome string, user int64, at time.Time,
) ([]int64, error) {
	return all[int64](ctx, tx, `
		with done as (
			update work w set open = false, outcome = $4, rep_id = $5
			from touch t
			where t.id = w.touch_id and w.open and w.touch_id = any ($3) and t.kind = 'post' and t.sequence_id = $1
				and t.step = $2
			returning w.touch_id)
		update touch t set state = 'done', done_at = $6 from done where t.id = done.touch_id
		returning t.enrolment_id`, sequenceID, step, touches, outcome, user, at)
}

// WakeWays has some enrolments looked at by an instant.
func (tx Tx) WakeWays(ctx context.Context, ids []int64, at time.Time) error {
	_, err := exec(ctx, tx, `
		update enrolment set look = least(look, $2) where id in (
			select id from enrolment where id = any ($1) and ended_at is null and not held order by id for update)`,
		ids, at)
	return err
}
