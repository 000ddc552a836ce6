package store

import (
	"context"
	"fmt"
)

// StepFigures are what is kept of how many people are where on a sequence: a sum of lines that
// whatever changes them adds, by triggers.
type StepFigures struct {
	Here    []StepFigure
	Passed  []StepFigure // how often each exit of each step was taken, and who left where and why
	Results []StepResult // what became of the touches of each step
}

// StepFigure is how many people are at a step of any version of a sequence,
// and took or left it.
type StepFigure struct {
	Step   int32
	Exit   string // empty: left there
	Reason string
	N      int64
}

// StepResult is what became of the touches of a step. Opened, Clicked and Replied count
// touches whose reader did so, machines left out.
type StepResult struct {
	Step    int32
	Made    int64
	Sent    int64
	Opened  int64
	Clicked int64
	Replied int64
	Trouble int64
	Done    int64
	Missed  int64
	Desk    int64
}

// StepFigures reads the figures of a sequence.
func (db Queries) StepFigures(ctx context.Context, sequenceID int64) (f StepFigures, err error) {
	rows, err := all[struct {
		StepFigure
		What string
	}](ctx, db, `
		select step, what, exit, reason, sum(n)::bigint as n
		from flow_count
		where sequence_id = $1 and step > 0
		group by 1, 2, 3, 4
		having sum(n) <> 0
		order by 1, 2, 3, 4`, sequenceID)
	if err != nil {
		return f, fmt.Errorf("reading the figures of sequence %d: %w", sequenceID, err)
	}
	at := map[int32]int{}
	for _, r := range rows {
		switch r.What {
		case "here":
			f.Here = append(f.Here, r.StepFigure)
			continue
		case "passed":
			f.Passed = append(f.Passed, r.StepFigure)
			continue
		}
		i, ok := at[r.Step]
		if !ok {
			i = len(f.Results)
			at[r.Step] = i
			f.Results = append(f.Results, StepResult{Step: r.Step})
		}
		f.Results[i].add(r.What, r.N)
	}
	return f, nil
}

// StepFiguresIn counts the figures of a while: what was passed, and what became of touches that
// were done, or made and not done yet, in it. Who is at each step is so now.
func (db Queries) StepFiguresIn(ctx context.Context, sequenceID int64, in Between) (f StepFigures, err error) {
	now, err := db.StepFigures(ctx, sequenceID)
	if err != nil {
		return f, err
	}
	f.Here = now.Here
	f.Passed, err = all[StepFigure](ctx, db, `
		select l.step, l.exit, l.reason, count(*) as n
		from enrolment_log l
		where l.version_id in (select id from sequence_version where sequence_id = $1) and `+in.holds("l.at")+`
		group by 1, 2, 3
		order by 1, 2, 3`, sequenceID)
	if err != nil {
		return f, fmt.Errorf("counting what was passed on sequence %d: %w", sequenceID, err)
	}
	f.Results, err = all[StepResult](ctx, db, `
		select t.step, count(*) as made, count(*) filter (where t.state = 'sent') as sent,
			count(*) filter (where t.opened) as opened, count(*) filter (where t.clicked) as clicked,
			count(*) filter (where t.replied) as replied,
			count(*) filter (where t.state in ('held', 'stopped')) as trouble,
			count(*) filter (where t.state = 'done') as done, count(*) filter (where t.state = 'missed') as missed,
			count(*) filter (where t.state = 'desk') as desk
		from touch t
		where t.sequence_id = $1 and `+in.holds("coalesce(t.done_at, t.made_at)")+`
		group by 1
		order by 1`, sequenceID)
	if err != nil {
		return f, fmt.Errorf("counting the touches of sequence %d: %w", sequenceID, err)
	}
	return f, nil
}

// AfterExit is what became of those who took an exit of a step, after they took it: people, each
// counted once.
type AfterExit struct {
	Exit     string
	N        int64 // who took it
	Sent     int64 // whom an email of the sequence went out to
	Opened   int64
	Clicked  int64
	Answered int64
	Handed   int64 // who was handed over in the end
}

// AfterExits counts what became of those who took the exits of a step in a while, by exit.
func (db Queries) AfterExits(ctx context.Context, sequenceID int64, step int32, in Between) ([]AfterExit, error) {
	return db.afterExits(ctx, "enrolment_log", sequenceID, step, in)
}

// AfterSomeExits is AfterExits of a sample, which takes no longer where there are many: some hundreds of those who took
// them, from lines of the log that stand beside each other at places spread over all of it.
func (db Queries) AfterSomeExits(ctx context.Context, sequenceID int64, step int32) ([]AfterExit, error) {
	return db.afterExits(ctx, `(
		with v as materialized (
			select s.id, a.low, a.high
			from sequence_version s
			cross join lateral (
				select min(x.id) as low, max(x.id) as high from enrolment_log x where x.version_id = s.id) a
			where s.sequence_id = $1 and a.low is not null),
		place as (
			select v.id, p.at
			from v
			cross join lateral generate_series(v.low, v.high,
				greatest(1, (select sum(high - low) from v) / 24)::bigint) p (at))
		select distinct x.*
		from place
		cross join lateral (
			select x.*
			from enrolment_log x
			where x.version_id = place.id and x.id >= place.at
			order by x.id
			limit 800) x)`, sequenceID, step, Between{})
}

func (db Queries) afterExits(ctx context.Context, log string, sequenceID int64, step int32, in Between) (
	[]AfterExit, error) {
	list, err := all[AfterExit](ctx, db, `
		select exit, count(*) as n, count(*) filter (where sent) as sent, count(*) filter (where opened) as opened,
			count(*) filter (where clicked) as clicked, count(*) filter (where replied) as answered,
			count(*) filter (where handed) as handed
		from (
			select l.exit, e.person_id, bool_or(e.reason = 'handed over') as handed, bool_or(t.id is not null) as sent,
				bool_or(t.opened) as opened, bool_or(t.clicked) as clicked, bool_or(t.replied) as replied
			from `+log+` l
			join enrolment e on e.id = l.enrolment_id
			left join touch t on t.enrolment_id = e.id and t.state = 'sent' and t.kind = 'email' and t.done_at >= l.at
			where l.version_id in (select id from sequence_version where sequence_id = $1) and l.step = $2
				and l.exit <> '' and `+in.holds("l.at")+`
			group by 1, 2) x
		group by 1
		order by 1`, sequenceID, step)
	if err != nil {
		return nil, fmt.Errorf("counting what came after step %d of sequence %d: %w", step, sequenceID, err)
	}
	return list, nil
}

// add adds touches in a state, or of which something is so.
func (r *StepResult) add(what string, n int64) {
	switch what {
	case "opened":
		r.Opened += n
		return
	case "clicked":
		r.Clicked += n
		return
	case "replied":
		r.Replied += n
		return
	case "sent":
		r.Sent += n
	case "held", "stopped":
		r.Trouble += n
	case "done":
		r.Done += n
	case "missed":
		r.Missed += n
	case "desk":
		r.Desk += n
	}
	r.Made += n
}

// FoldCounts folds the lines of which figures are the sum into one each, where there are
// more than most; several may do it at once.
func (s *Store) FoldCounts(ctx context.Context, most int) error {
	for _, f := range []struct{ many, fold string }{{
		"select count(*) > $1 from (select from flow_count limit $1 + 1) x", `
			with gone as (delete from flow_count returning sequence_id, step, what, exit, reason, n)
			insert into flow_count (sequence_id, step, what, exit, reason, n)
			select sequence_id, step, what, exit, reason, sum(n)
			from gone
			group by 1, 2, 3, 4, 5
			having sum(n) <> 0`,
	}, {
		"select count(*) > $1 from (select from kept where fresh limit $1 + 1) x", `
			with f as (select distinct of, id, what from kept where fresh),
			gone as (
				delete from kept k
				using f
				where k.of = f.of and k.id = f.id and k.what = f.what
				returning k.of, k.id, k.what, k.n)
			insert into kept (of, id, what, n, fresh)
			select of, id, what, sum(n), false
			from gone
			group by 1, 2, 3
			having sum(n) <> 0`,
	}} {
		err := s.InTx(ctx, func(tx Tx) error {
			many, err := one[bool](ctx, tx, f.many, most)
			if err != nil || !many {
				return err
			}
			_, err = exec(ctx, tx, f.fold)
			return err
		})
		if err != nil {
			return fmt.Errorf("folding figures: %w", err)
		}
	}
	return nil
}
