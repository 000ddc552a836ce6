package flow

import (
	"context"
	"crypto/sha256"
	"encoding/json"
	"fmt"
	"slices"
	"time"

	"ombak/internal/core/calendar"
	"ombak/internal/core/contact"
	"ombak/internal/core/news"
	"ombak/internal/core/person"
	"ombak/internal/core/plainly"
	"ombak/internal/core/sequence"
	"ombak/internal/engine/base"
	"ombak/internal/store"
)

// Unready says why a sequence cannot be launched.
type Unready struct{ Problems []sequence.Problem }

func (u *Unready) Error() string {
	return fmt.Sprintf("it cannot be launched yet: %s", u.Problems[0].Text)
}

// Plain marks it as an error that users may read.
func (*Unready) Plain() {}

// Problems lists what keeps the draft of a sequence from being launched: the
// plan's own faults, who enters, and messages that are not there or that no
// reader could get.
func (e *Flow) Problems(ctx context.Context, q store.Sequence, p *sequence.Plan) ([]sequence.Problem, error) {
	problems := p.Check()
	entry := q.Entry.V
	if !entry.Anybody() {
		problems = append(problems, sequence.Problem{Text: "nobody enters yet: choose a form or an audience"})
	}
	if err := entry.Check(); err != nil {
		problems = append(problems, sequence.Problem{Text: "who enters: " + base.Told(err)})
	}
	if problem, err := e.ungrounded(ctx, p.Ground); err != nil {
		return nil, err
	} else if problem != "" {
		problems = append(problems, sequence.Problem{Text: problem})
	}
	for _, id := range p.OwnPurposes() {
		problem, err := e.ungrounded(ctx, contact.Ground{Purpose: id})
		if err != nil {
			return nil, err
		}
		if problem != "" {
			problems = append(problems, sequence.Problem{Step: p.Asking(id), Text: problem})
		}
	}
	ids, asks := p.Events()
	if events, err := e.Store.EventsByID(ctx, ids); err != nil {
		return nil, err
	} else if len(events) < len(ids) {
		problems = append(problems,
			sequence.Problem{Step: asks, Text: "its event is not there any more: choose another"})
	}
	fields, err := e.Fields(ctx)
	if err != nil {
		return nil, err
	}
	messages, err := e.MessagesOf(ctx, p)
	if err != nil {
		return nil, err
	}
	checked := map[int64]error{} // each message once, however many steps send it
	for _, part := range p.Parts() {
		if part.What != sequence.MessagePart || part.ID == 0 {
			continue
		}
		m, ok := messages[part.ID]
		if !ok {
			problems = append(problems, sequence.Problem{Step: part.Step, Text: "its message is not there any more"})
			continue
		}
		if m.Version == 0 {
			problems = append(problems,
				sequence.Problem{Step: part.Step, Text: fmt.Sprintf("“%s” is a draft that was not kept yet", m.Name)})
			continue
		}
		err, done := checked[m.ID]
		if !done {
			err = m.Doc.V.Check(fields)
			checked[m.ID] = err
		}
		if err != nil {
			problems = append(problems, sequence.Problem{Step: part.Step, Text: fmt.Sprintf("“%s”: %v", m.Name, err)})
		}
	}
	return problems, nil
}

// MessagesOf reads the messages that a plan sends, by id; those that are not there any more are left out.
func (e *Flow) MessagesOf(ctx context.Context, p *sequence.Plan) (map[int64]store.Message, error) {
	var ids []int64
	for _, part := range p.Parts() {
		if part.What == sequence.MessagePart && part.ID != 0 {
			ids = append(ids, part.ID)
		}
	}
	if len(ids) == 0 {
		return nil, nil
	}
	return e.Store.MessageTexts(ctx, ids)
}

// ungrounded says why a ground cannot be named here, empty where it can.
func (e *Flow) ungrounded(ctx context.Context, g contact.Ground) (string, error) {
	switch {
	case g.Purpose != 0:
		list, err := e.Store.Purposes(ctx)
		if err != nil || slices.ContainsFunc(list, func(p store.Purpose) bool { return p.ID == g.Purpose }) {
			return "", err
		}
		return "the purpose people agreed to is not there any more: choose another ground", nil
	case g.Other != "":
		list, err := e.Store.Grounds(ctx)
		if err != nil || slices.Contains(list, g.Other) {
			return "", err
		}
		return fmt.Sprintf("“%s” is not a ground that may be named here any more: choose another", g.Other), nil
	}
	return "", nil
}

// ErrLaunchesOther is answered where what would be launched is not what somebody looked at.
var ErrLaunchesOther = plainly.New("the draft, its emails or what runs have changed since you looked")

// launchable is what a launch of a sequence's draft would keep.
type launchable struct {
	q        store.Sequence
	plan     store.JSON[*sequence.Plan]
	messages map[int64]int // the newest version of each that the plan sends
	mark     string        // another one where any of it differs, or what runs
}

// launchable reads it.
func (e *Flow) launchable(ctx context.Context, db store.Queries, id int64) (l launchable, err error) {
	if l.q, err = db.Sequence(ctx, id); err != nil {
		return l, err
	}
	draft, err := db.Draft(ctx, id)
	if err != nil {
		return l, err
	}
	l.plan = draft.Plan
	var ids []int64
	for _, part := range l.plan.V.Parts() {
		if part.What == sequence.MessagePart {
			ids = append(ids, part.ID)
		}
	}
	if l.messages, err = db.MessageVersions(ctx, ids); err != nil {
		return l, err
	}
	all, err := json.Marshal([]any{l.plan.V, l.q.Entry.V, l.q.Number, l.messages})
	l.mark = fmt.Sprintf("%x", sha256.Sum256(all))
	return l, err
}

// Launch makes the draft of a sequence its next running version. People who are on the way stay on the version they
// entered; those who are at one of the steps of move go on with the new one at the same step, where that is still
// there. A draft that cannot run is an *Unready; one that somebody changes or launches meanwhile is ErrLaunchesOther.
func (e *Flow) Launch(ctx context.Context, id, user int64, move ...sequence.StepID) error {
	return e.LaunchSeen(ctx, id, user, "", move...)
}

// LaunchSeen is Launch of what somebody looked at, by its mark (empty: they did not look): another draft than that is
// ErrLaunchesOther.
func (e *Flow) LaunchSeen(ctx context.Context, id, user int64, seen string, move ...sequence.StepID) error {
	l, err := e.launchable(ctx, e.Store.Queries, id)
	if err != nil {
		return err
	}
	if seen != "" && seen != l.mark {
		return ErrLaunchesOther
	}
	plan := l.plan.V
	problems, err := e.Problems(ctx, l.q, plan)
	if err != nil {
		return err
	}
	if len(problems) > 0 {
		return &Unready{problems}
	}
	now := e.Now()
	v := store.Version{Sequence: id, Plan: l.plan, Entry: l.q.Entry, Launched: now, Hold: e.launchHold(plan, now)}
	v.Messages.V = l.messages
	err = e.Store.InTx(ctx, func(tx store.Tx) error {
		// Whoever launches it from another window waits here, and then sees that it is launched.
		if err := tx.LockSequence(ctx, id); err != nil {
			return err
		}
		is, err := e.launchable(ctx, tx.Queries, id)
		if err != nil {
			return err
		}
		if is.mark != l.mark {
			return ErrLaunchesOther
		}
		var steps []int32
		for _, s := range move {
			if plan.Step(s) != nil {
				steps = append(steps, int32(s))
			}
		}
		version, err := tx.AddVersion(ctx, v, user)
		if err != nil {
			return err
		}
		if len(steps) > 0 {
			if _, err := tx.MoveEnrolments(ctx, id, version, steps, now); err != nil {
				return err
			}
		}
		return tx.Notify(ctx, news.Sequence.Of(id))
	})
	if err == nil {
		e.Nudge()
	}
	return err
}

// ErrNotRunning is answered where a sequence is not in the state an action is for.
var ErrNotRunning = plainly.New("the sequence is not in that state any more")

// Hold stops everything of a running sequence where it stands: nobody is
// walked on and nothing goes out until it runs again.
func (e *Flow) Hold(ctx context.Context, id int64) error {
	return e.setState(ctx, id, "running", "held")
}

// Resume lets a held sequence run on.
func (e *Flow) Resume(ctx context.Context, id int64) error {
	return e.setState(ctx, id, "held", "running")
}

// HoldAll stops every running sequence and every one-off email on its way, where
// each stands. It answers how many, and a number by which to take it back.
func (e *Flow) HoldAll(ctx context.Context, user int64) (id, n int64, err error) {
	err = e.Store.InTx(ctx, func(tx store.Tx) error {
		if id, n, err = tx.HoldEverything(ctx, user, e.Now()); err != nil {
			return err
		}
		return tx.Notify(ctx, news.Signal)
	})
	return id, n, err
}

// TakeBackHold lets go on what one HoldAll held, but for what somebody has
// decided about since. The second time it answers store.ErrOver.
func (e *Flow) TakeBackHold(ctx context.Context, id int64) (n int64, err error) {
	err = e.Store.InTx(ctx, func(tx store.Tx) error {
		if n, err = tx.TakeBackHold(ctx, id, e.Now()); err != nil {
			return err
		}
		return tx.Notify(ctx, news.Signal)
	})
	e.Nudge()
	return n, err
}

// Launching is what a launch would do now.
type Launching struct {
	Problems []sequence.Problem
	Rule     bool           // an audience enters; otherwise whoever fills a form in
	Entering store.Entering // by the rule
	Hold     *time.Time     // nothing goes out before; nil: no hold
	Number   int            // of the version
	OnTheWay int64          // who is on an earlier version
	Differs  []Differing    // from what runs
	At       []Standing     // where those are who are on the way, the draft's steps first
	Mark     string         // of what would be launched
}

// Differing is a difference from what runs.
type Differing struct {
	sequence.Difference
	Here int64 // people at the step
}

// Standing is how many people on the way are at a step.
type Standing struct {
	Step  sequence.StepID
	Title string
	N     int64
	Gone  bool // the draft has no such step: they stay on their version
}

// NewWords is how a step differs of which only the message is a newer one.
const NewWords sequence.How = "has newer words"

// Differs tells what is another in a sequence's draft than in what runs, and where people are.
// Of one that does not run yet it tells nothing.
func (e *Flow) Differs(
	ctx context.Context, q store.Sequence, draft *sequence.Plan,
) (list []Differing, at []Standing, err error) {
	if q.Version == nil {
		return nil, nil, nil
	}
	v, err := e.Store.Version(ctx, *q.Version)
	if err != nil {
		return nil, nil, err
	}
	kept, err := e.Store.StepFigures(ctx, q.ID)
	if err != nil {
		return nil, nil, err
	}
	here := map[sequence.StepID]int64{}
	for _, f := range kept.Here {
		here[sequence.StepID(f.Step)] = f.N
	}
	told := map[sequence.StepID]bool{}
	for _, d := range draft.Differs(v.Plan.V) {
		told[d.Step] = true
		list = append(list, Differing{d, here[d.Step]})
	}
	messages, err := e.MessagesOf(ctx, draft)
	if err != nil {
		return nil, nil, err
	}
	for _, part := range draft.Parts() {
		m, ok := messages[part.ID]
		if part.What != sequence.MessagePart || told[part.Step] || !ok {
			continue // what keeps it from being launched is said elsewhere
		}
		if was, ok := v.Messages.V[part.ID]; ok && was != m.Version {
			list = append(list, Differing{sequence.Difference{Step: part.Step,
				Title: draft.Step(part.Step).About().Title, How: NewWords}, here[part.Step]})
		}
	}
	stand := func(s sequence.Step, gone bool) {
		id := s.About().ID
		if n := here[id]; n > 0 {
			at = append(at, Standing{Step: id, Title: s.About().Title, N: n, Gone: gone})
		}
		delete(here, id)
	}
	for _, s := range draft.Steps {
		stand(s, false)
	}
	for _, s := range v.Plan.V.Steps {
		stand(s, true)
	}
	earlier := int64(0)
	for _, n := range here {
		earlier += n
	}
	if earlier > 0 {
		at = append(at, Standing{Title: "steps of earlier versions", N: earlier, Gone: true})
	}
	return list, at, nil
}

// Launching tells what a launch of a sequence's draft would do now.
func (e *Flow) Launching(ctx context.Context, id int64) (Launching, error) {
	would, err := e.launchable(ctx, e.Store.Queries, id)
	l := Launching{Number: 1, Mark: would.mark}
	if err != nil {
		return l, err
	}
	q, plan := would.q, would.plan.V
	if l.Problems, err = e.Problems(ctx, q, plan); err != nil || len(l.Problems) > 0 {
		return l, err
	}
	if q.Number != nil {
		l.Number = *q.Number + 1
	}
	l.OnTheWay, l.Hold = q.OnTheWay, e.launchHold(plan, e.Now())
	if l.Differs, l.At, err = e.Differs(ctx, q, plan); err != nil {
		return l, err
	}
	if q.Entry.V.Rule != nil {
		l.Rule = true
		l.Entering, err = e.Store.WhoEnters(ctx, &q.Entry.V, id, plan.Ways(), store.PeopleQuery{Now: e.Now()})
	}
	return l, err
}

// launchHold is the instant before which nothing of a plan launched now goes out.
func (e *Flow) launchHold(p *sequence.Plan, now time.Time) *time.Time {
	if !p.LaunchHold {
		return nil
	}
	until := calendar.Span{N: 1, Unit: calendar.WorkingDays}.After(now, e.Zone(), e.Working())
	return &until
}

// CopySequence begins a sequence that is drawn as another one's draft is.
func (e *Flow) CopySequence(ctx context.Context, id int64) (made int64, err error) {
	q, err := e.Store.Sequence(ctx, id)
	if err != nil {
		return 0, err
	}
	draft, err := e.Store.Draft(ctx, id)
	if err != nil {
		return 0, err
	}
	err = e.Store.InTx(ctx, func(tx store.Tx) error {
		made, err = tx.AddSequence(ctx, person.Name("Copy of "+q.Name), draft.Plan.V, e.Now())
		return err
	})
	if err != nil {
		return 0, err
	}
	return made, e.Store.SetEntry(ctx, made, q.Entry.V, e.Now())
}

// EndSequence ends a sequence for good: nobody enters any more, and whoever is
// on the way leaves. It answers how many did.
func (e *Flow) EndSequence(ctx context.Context, id int64) (n int64, err error) {
	err = e.Store.InTx(ctx, func(tx store.Tx) error {
		if n, err = tx.EndSequence(ctx, id, sequence.Over, e.Now()); err != nil {
			return err
		}
		return tx.Notify(ctx, news.Sequence.Of(id), news.Desk.AboutSomebody())
	})
	return n, err
}

// RemoveSequence takes a sequence that does not run off the lists; back puts it
// back.
func (e *Flow) RemoveSequence(ctx context.Context, id int64, back bool) error {
	now := e.Now()
	at := &now
	if back {
		at = nil
	}
	return e.Store.InTx(ctx, func(tx store.Tx) error { return tx.RemoveSequence(ctx, id, at) })
}

func (e *Flow) setState(ctx context.Context, id int64, from, to string) error {
	ok, err := e.Store.SetSequenceState(ctx, id, from, to, e.Now())
	if err == nil && !ok {
		err = ErrNotRunning
	}
	e.Nudge()
	return err
}

// enterPerTurn bounds how many people one turn enters into one sequence.
const enterPerTurn = 2000

// EnterByRules enters people for whom the rule of a running sequence holds
// and who have not been on it. It answers how many, and whether not everybody was asked about yet.
func (e *Flow) EnterByRules(ctx context.Context) (entered int64, full bool, err error) {
	err = e.Store.InTx(ctx, func(tx store.Tx) error {
		entered, full = 0, false
		ok, err := tx.LockEntry(ctx)
		if err != nil || !ok {
			return err
		}
		list, err := tx.EnteredByRule(ctx)
		if err != nil {
			return err
		}
		waiting, err := uncountedSequences(ctx, tx)
		if err != nil {
			return err
		}
		now := e.Now()
		for _, q := range list {
			if slices.Contains(waiting, q.Sequence) {
				continue
			}
			room, err := e.room(ctx, tx, &q, now)
			if err != nil {
				return err
			}
			if room == 0 {
				continue
			}
			after := int64(0)
			if q.Entry.V.Wave.N == 0 { // who enters by waves enters in order
				after = e.entered.after(q.Sequence)
			}
			people, err := tx.PeopleFor(ctx, &q, now, after, room)
			if err != nil {
				return err
			}
			if q.Entry.V.Wave.N == 0 {
				e.entered.asked(q.Sequence, people, room)
				full = full || len(people) == room
			}
			if len(people) == 0 {
				continue
			}
			n, err := tx.Enrol(ctx, &q, people, now)
			if err != nil {
				return err
			}
			entered += n
			if err := tx.Notify(ctx, news.Sequence.Of(q.Sequence).AboutSomebody()); err != nil {
				return err
			}
		}
		return nil
	})
	return entered, full, err
}

// recordsPerTurn bounds how much of what happened to records one turn looks at.
const recordsPerTurn = 1000

// EnterByRecords enters those to whose records happened what a running sequence is entered
// by. It answers how much of what happened it has looked at.
func (e *Flow) EnterByRecords(ctx context.Context) (int, error) {
	looked := 0
	err := e.Store.InTx(ctx, func(tx store.Tx) error {
		list, err := tx.TakeRecorded(ctx, recordsPerTurn)
		if looked = len(list); err != nil || looked == 0 {
			return err
		}
		running, err := tx.EnteredByRecord(ctx)
		if err != nil {
			return err
		}
		for _, q := range running {
			var people []int64
			for _, r := range list {
				h := sequence.RecordNews{Made: r.Before.V == nil, Before: r.Before.V, After: r.After.V}
				if q.Entry.V.Record.Matches(&h) && !slices.Contains(people, r.Person) {
					people = append(people, r.Person)
				}
			}
			if len(people) == 0 {
				continue
			}
			if err := e.Enter(ctx, tx, q, people...); err != nil {
				return err
			}
		}
		return nil
	})
	return looked, err
}

// room is how many may enter a sequence by its rule now: of its wave, who is left.
func (e *Flow) room(ctx context.Context, tx store.Tx, q *store.RunningEntry, now time.Time) (int, error) {
	w := q.Entry.V.Wave
	if w.N == 0 {
		return enterPerTurn, nil
	}
	n, err := tx.EnteredSince(ctx, q.Sequence, w.Since(now, e.Zone()))
	return min(max(w.N-n, 0), enterPerTurn), err
}

// uncountedSequences are those that ask for an audience of which it is not known
// yet who is in it: nobody enters by it, and nobody is sorted by it.
func uncountedSequences(ctx context.Context, tx store.Tx) ([]int64, error) {
	uncounted, err := tx.Uncounted(ctx)
	if err != nil {
		return nil, err
	}
	return tx.SequencesAsking(ctx, uncounted)
}
