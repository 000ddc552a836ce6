package store

import (
	"context"
	"fmt"
	"time"

	"ombak/internal/core/person"
	"ombak/internal/core/sequence"
)

// Entry says who enters a sequence.
type Entry = sequence.Entry

// Sequence is a sequence with its figures.
type Sequence struct {
	ID       int64
	Name     string
	State    string // draft, running, held or ended
	Note     string // what it is for
	Entry    JSON[Entry]
	DraftN   int    `db:"draft_n"`
	Version  *int64 `db:"version_id"`
	Number   *int   // of the version
	Launched *time.Time
	Updated  time.Time `db:"updated_at"`
	Entered  int64
	OnTheWay int64 `db:"on_the_way"`
	Handed   int64
	Ended    int64
}

const sequenceFields = `
	select q.id, q.name, q.note, q.state, q.entry, q.draft_n, q.version_id, v.number, v.launched_at as launched,
	q.updated_at,
	coalesce(f.entered, 0) as entered, coalesce(f.on_the_way, 0) as on_the_way, coalesce(f.handed, 0) as handed,
		coalesce(f.ended, 0) as ended
	from sequence q left join sequence_version v on v.id = q.version_id
	left join lateral (
		select (sum(c.n) filter (where c.what = 'entered'))::bigint as entered,
			(sum(c.n) filter (where c.what = 'here'))::bigint as on_the_way,
			(sum(c.n) filter (where c.what = 'ended' and c.reason = 'handed over'))::bigint as handed,
			(sum(c.n) filter (where c.what = 'ended'))::bigint as ended
		from flow_count c
		where c.sequence_id = q.id and (c.step = 0 or c.what = 'here')) f on true `

// Sequences lists all, the last changed first.
func (db Queries) Sequences(ctx context.Context) ([]Sequence, error) {
	return all[Sequence](ctx, db,
		sequenceFields+"where q.removed_at is null order by q.updated_at desc, q.id desc limit 500")
}

// Sequence reads one.
func (db Queries) Sequence(ctx context.Context, id int64) (Sequence, error) {
	return one[Sequence](ctx, db, sequenceFields+"where q.id = $1", id)
}

// AddSequence makes a sequence with a first draft.
func (tx Tx) AddSequence(ctx context.Context, name string, p *sequence.Plan, at time.Time) (int64, error) {
	id, err := one[int64](ctx, tx,
		"insert into sequence (name, created_at, updated_at) values ($1, $2, $2) returning id", name, at)
	if err != nil {
		return 0, fmt.Errorf("making the sequence %q: %w", name, err)
	}
	_, err = exec(ctx, tx, "insert into sequence_draft (sequence_id, n, plan, what) values ($1, 0, $2, 'new')", id,
		JSON[*sequence.Plan]{p})
	return id, err
}

// Draft is one state of a sequence's draft.
type Draft struct {
	N    int
	Plan JSON[*sequence.Plan]
	What string // what was done to come here
	Last int    // the highest n there is: later ones can be redone
}

// Draft reads the draft as it stands.
func (db Queries) Draft(ctx context.Context, id int64) (Draft, error) {
	return one[Draft](ctx, db,
		`select d.n, d.plan, d.what, (select max(n) from sequence_draft where sequence_id = $1) as last
		from sequence q join sequence_draft d on d.sequence_id = q.id and d.n = q.draft_n where q.id = $1`, id)
}

// LockDraft is Draft within a transaction, locked.
func (tx Tx) LockDraft(ctx context.Context, id int64) (Draft, error) {
	return one[Draft](ctx, tx, `
		select d.n, d.plan, d.what, d.n as last
		from sequence q
		join sequence_draft d on d.sequence_id = q.id and d.n = q.draft_n
		where q.id = $1
		for update of q`, id)
}

// maxDrafts is how many states of a draft can be undone.
const maxDrafts = 100

// SaveDraft keeps a new state of the draft after state n and drops what could
// have been redone. It answers false where the draft is not in state n any
// more: somebody else has changed it.
func (tx Tx) SaveDraft(
	ctx context.Context, id int64, n int, p *sequence.Plan, what string, at time.Time,
) (bool, error) {
	moved, err := exec(ctx, tx, "update sequence set draft_n = $2 + 1, updated_at = $3 where id = $1 and draft_n = $2",
		id, n, at)
	if err != nil || moved == 0 {
		return false, err
	}
	if _, err := exec(ctx, tx, "delete from sequence_draft where sequence_id = $1 and (n > $2 or n < $2 - $3)", id, n,
		maxDrafts); err != nil {
		return false, err
	}
	_, err = exec(ctx, tx, "insert into sequence_draft (sequence_id, n, plan, what) values ($1, $2, $3, $4)", id, n+1,
		JSON[*sequence.Plan]{p}, what)
	return err == nil, err
}

// MoveDraft goes back (by −1) or forward (by 1) through the draft's states and
// reports whether there was one.
func (tx Tx) MoveDraft(ctx context.Context, id int64, by int, at time.Time) (bool, error) {
	n, err := exec(ctx, tx, `update sequence set draft_n = draft_n + $2, updated_at = $3 where id = $1
		and exists (select from sequence_draft d where d.sequence_id = $1 and d.n = draft_n + $2)`, id, by, at)
	return n == 1, err
}

// EndSequence ends a sequence that was launched: everybody on the way leaves for
// a reason, and what has not gone out does not. It answers how many left, and
// ErrOver where it is not running or held.
func (tx Tx) EndSequence(ctx context.Context, id int64, reason sequence.Reason, at time.Time) (int64, error) {
	n, err := exec(ctx, tx, `update sequence set state = 'ended', updated_at = $2, hold_id = null
		where id = $1 and state in ('running', 'held')`, id, at)
	if err == nil && n == 0 {
		err = ErrOver
	}
	if err != nil {
		return 0, err
	}
	if _, err := withdraw(ctx, tx, string(reason), at,
		"t.enrolment_id in (select e.id from enrolment e where e.sequence_id = $3 and e.ended_at is null)",
		id); err != nil {
		return 0, err
	}
	return exec(ctx, tx, `
		with open as (select id from enrolment where sequence_id = $1 and ended_at is null order by id for update),
		gone as (
			update enrolment e set ended_at = $3, reason = $2, due = null, look = null
			from open where e.id = open.id returning e.id, e.version_id, e.step)
		insert into enrolment_log (enrolment_id, version_id, step, at, exit, reason)
		select id, version_id, step, $3, '', $2 from gone`, id, string(reason), at)
}

// RemoveSequence takes a sequence that does not run off the lists, or puts it
// back (at nil). It answers ErrOver where it runs.
func (tx Tx) RemoveSequence(ctx context.Context, id int64, at *time.Time) error {
	n, err := exec(ctx, tx, "update sequence set removed_at = $2 where id = $1 and state in ('draft', 'ended')", id, at)
	if err == nil && n == 0 {
		err = ErrOver
	}
	return err
}

// WriterOf finds the sequence by which a message is written to those who agreed to a purpose; ErrNotFound: there is
// none that could.
func (db Queries) WriterOf(ctx context.Context, message, purpose int64) (int64, error) {
	return one[int64](ctx, db, `
		select id
		from sequence
		where writes_message = $1 and writes_purpose = $2 and removed_at is null and state <> 'ended'`, message,
		purpose)
}

// SetWriter says of a sequence that a message is written by it.
func (tx Tx) SetWriter(ctx context.Context, id, message, purpose int64) error {
	_, err := exec(ctx, tx, "update sequence set writes_message = $2, writes_purpose = $3 where id = $1", id, message,
		purpose)
	return err
}

// SetSequence keeps a sequence's name, what it is for and who enters it.
func (tx Tx) SetSequence(ctx context.Context, id int64, name, note string, e Entry, at time.Time) error {
	_, err := exec(ctx, tx, "update sequence set name = $2, note = $3, entry = $4, updated_at = $5 where id = $1",
		id, name, note, JSON[Entry]{e}, at)
	return err
}

// SetEntry keeps who enters; it holds from the next launch on.
func (db Queries) SetEntry(ctx context.Context, id int64, e Entry, at time.Time) error {
	_, err := exec(ctx, db, "update sequence set entry = $2, updated_at = $3 where id = $1", id, JSON[Entry]{e}, at)
	return err
}

// Version is a launched version of a sequence. It never changes.
type Version struct {
	ID       int64
	Sequence int64 `db:"sequence_id"`
	Number   int
	Plan     JSON[*sequence.Plan]
	Messages JSON[map[int64]int]
	Entry    JSON[Entry]
	Hold     *time.Time `db:"hold_until"`
	Launched time.Time  `db:"launched_at"`
}

// Version reads one.
func (db Queries) Version(ctx context.Context, id int64) (Version, error) {
	return one[Version](ctx, db,
		"select id, sequence_id, number, plan, messages, entry, hold_until, launched_at from sequence_version where "+
			"id = $1", id)
}

// Versions reads several.
func (db Queries) Versions(ctx context.Context, ids []int64) ([]Version, error) {
	return all[Version](ctx, db,
		"select id, sequence_id, number, plan, messages, entry, hold_until, launched_at from sequence_version where "+
			"id = any ($1)", ids)
}

// LockSequence has whoever else would launch a sequence wait until the transaction ends.
func (tx Tx) LockSequence(ctx context.Context, id int64) error {
	_, err := exec(ctx, tx, "select from sequence where id = $1 for no key update", id)
	return err
}

// AddVersion launches: it keeps a version and makes it the running one.
func (tx Tx) AddVersion(ctx context.Context, v Version, by int64) (int64, error) {
	if err := tx.LockSequence(ctx, v.Sequence); err != nil {
		return 0, err
	}
	id, err := one[int64](ctx, tx, `
		insert into sequence_version (sequence_id, number, plan, messages, entry, hold_until, launched_at, launched_by)
		select $1, coalesce(max(number), 0) + 1, $2, $3, $4, $5, $6, nullif($7, 0)
		from sequence_version
		where sequence_id = $1
		returning id`,
		v.Sequence, v.Plan, v.Messages, v.Entry, v.Hold, v.Launched, by)
	if err != nil {
		return 0, fmt.Errorf("launching sequence %d: %w", v.Sequence, err)
	}
	_, err = exec(ctx, tx, "update sequence set state = 'running', version_id = $2, updated_at = $3 where id = $1",
		v.Sequence, id, v.Launched)
	return id, err
}

// MoveEnrolments brings people on the way to another version, those whose step
// is still in it, and has each looked at.
func (tx Tx) MoveEnrolments(
	ctx context.Context, sequenceID, version int64, steps []int32, at time.Time,
) (int64, error) {
	return exec(ctx, tx, `
			update enrolment
			set version_id = $2, look = case when held then null else $4::timestamptz end
			where sequence_id = $1 and version_id <> $2 and ended_at is null and step = any ($3)`,
		sequenceID, version, steps, at)
}

// SetSequenceState holds a sequence or lets it run on.
func (db Queries) SetSequenceState(ctx context.Context, id int64, from, to string, at time.Time) (bool, error) {
	n, err := exec(ctx, db, `update sequence set state = $3, updated_at = $4, hold_id = null
		where id = $1 and state = $2`, id, from, to, at)
	return n == 1, err
}

// RunningEntry is who enters a running sequence.
type RunningEntry struct {
	Sequence int64 `db:"sequence_id"`
	Version  int64 `db:"version_id"`
	Entry    JSON[Entry]
	Plan     JSON[*sequence.Plan]
}

const runningEntries = `select q.id as sequence_id, v.id as version_id, v.entry, v.plan
	from sequence q join sequence_version v on v.id = q.version_id where q.state = 'running' `

// EnteredByPage lists the running sequences that a page's form leads into.
func (db Queries) EnteredByPage(ctx context.Context, page int64) ([]RunningEntry, error) {
	return all[RunningEntry](ctx, db, runningEntries+"and (v.entry->>'page')::bigint = $1 order by q.id", page)
}

// EnteredBySignals lists the running sequences that some kinds of signal lead into.
func (db Queries) EnteredBySignals(ctx context.Context, kinds []int16) ([]RunningEntry, error) {
	return all[RunningEntry](ctx, db,
		runningEntries+"and (v.entry->'on'->>'kind')::smallint = any ($1) order by q.id", kinds)
}

// RunningSequence answers who enters a sequence that runs.
func (db Queries) RunningSequence(ctx context.Context, id int64) (RunningEntry, error) {
	return one[RunningEntry](ctx, db, runningEntries+"and q.id = $1", id)
}

// EnteredByRule lists the running sequences that an audience enters.
func (db Queries) EnteredByRule(ctx context.Context) ([]RunningEntry, error) {
	return all[RunningEntry](ctx, db, runningEntries+"and v.entry ? 'rule' order by q.id")
}

// EnteredByRecord lists the running sequences that are entered by what happens to a record.
func (db Queries) EnteredByRecord(ctx context.Context) ([]RunningEntry, error) {
	return all[RunningEntry](ctx, db, runningEntries+"and v.entry ? 'record' order by q.id")
}

// Recorded is what happened to somebody's record.
type Recorded struct {
	Person int64               `db:"person_id"`
	Before JSON[person.Values] // nil: it was made
	After  JSON[person.Values]
}

// TakeRecorded takes what happened to records, the oldest first, n at most, which nobody else
// takes then.
func (tx Tx) TakeRecorded(ctx context.Context, n int) ([]Recorded, error) {
	return all[Recorded](ctx, tx, `
		with next as (
			delete from recorded
			where id in (select id from recorded order by id limit $1 for update skip locked)
			returning id, person_id, before, after)
		select person_id, before, after from next order by id`, n)
}

// RunningPlan is what a sequence that runs does.
type RunningPlan struct {
	Sequence int64 `db:"sequence_id"`
	Version  int64
	Name     string
	Entry    JSON[Entry]
	Plan     JSON[*sequence.Plan]
}

// RunningPlans lists what runs, or is held. The plans of versions that are known already, which never change, are left
// out.
func (db Queries) RunningPlans(ctx context.Context, known []int64) ([]RunningPlan, error) {
	return all[RunningPlan](ctx, db, `
		select q.id as sequence_id, q.name, v.id as version, v.entry,
			case when v.id = any ($1) then 'null'::jsonb else v.plan end as plan
		from sequence q
		join sequence_version v on v.id = q.version_id
		where q.state in ('running', 'held')
		order by q.id
		limit 500`, known)
}

// LockEntry makes this transaction the only one that enters people by rule; it
// answers false where another is at it.
func (tx Tx) LockEntry(ctx context.Context) (bool, error) {
	return one[bool](ctx, tx, "select pg_try_advisory_xact_lock($1)", lockEntry)
}

// StepDone is something that happened to somebody on a sequence.
type StepDone struct {
	Person      int64 `db:"person_id"`
	First, Last string
	Email       string
	Step        int32
	At          time.Time
	Exit        string
	Reason      string
}

// Lately lists the last steps done on a sequence, the newest first.
func (db Queries) Lately(ctx context.Context, sequenceID int64, n int) ([]StepDone, error) {
	return all[StepDone](ctx, db,
		`select e.person_id, p.first_name as first, p.last_name as last, p.email, l.step, l.at, l.exit, l.reason
		from sequence_version v
		cross join lateral (
			select * from enrolment_log l where l.version_id = v.id order by l.id desc limit $2) l
		join enrolment e on e.id = l.enrolment_id
		join person p on p.id = e.person_id
		where v.sequence_id = $1
		order by l.id desc
		limit $2`, sequenceID, n)
}

// DueDay is how many people of a sequence come due on a day.
type DueDay struct {
	Day time.Time
	N   int64
}

// DueByDay counts, until an instant, the people of a sequence by the day on
// which their step is due, the days being those of a zone.
func (db Queries) DueByDay(ctx context.Context, sequenceID int64, until time.Time, zone string) ([]DueDay, error) {
	return all[DueDay](ctx, db, `select date_trunc('day', due at time zone $3) as day, count(*) as n from enrolment
		where sequence_id = $1 and ended_at is null and due < $2 group by 1 order by 1`, sequenceID, until, zone)
}
