package engine

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"time"

	"ombak/internal/core/calendar"
	"ombak/internal/core/rule"
	"ombak/internal/core/score"
	"ombak/internal/core/sequence"
	"ombak/internal/core/signal"
	"ombak/internal/store"
)

// batch is how many enrolments one transaction looks at.
const batch = 500

// AdvanceBatch walks on up to n enrolments that have to be looked at by now
// and answers how many it looked at and how many steps they did.
//
// An enrolment that cannot be walked on is put off by an hour, logged, and does
// not keep the others.
func (e *Engine) AdvanceBatch(ctx context.Context, n int) (looked, steps int, err error) {
	now := e.Now()
	err = e.Store.InTx(ctx, func(tx store.Tx) error {
		looked, steps, err = e.advance(ctx, tx, now, n)
		return err
	})
	x, ok := errors.AsType[*stuck](err)
	if !ok {
		return looked, steps, err
	}
	slog.Error("an enrolment cannot be walked on and is put off by an hour", "enrolment", x.enrolment, "error", x.err)
	err = e.Store.InTx(ctx, func(tx store.Tx) error { return store.PutOff(ctx, tx, []int64{x.enrolment}, now.Add(time.Hour)) })
	return 1, 0, err
}

// stuck is an error that is about one enrolment.
type stuck struct {
	enrolment int64
	err       error
}

func (s *stuck) Error() string { return fmt.Sprintf("enrolment %d: %v", s.enrolment, s.err) }
func (s *stuck) Unwrap() error { return s.err }

func (e *Engine) advance(ctx context.Context, tx store.Tx, now time.Time, n int) (looked, steps int, err error) {
	claimed, err := store.ClaimDue(ctx, tx, now, n)
	if err != nil || len(claimed) == 0 {
		return 0, 0, err
	}
	programs, err := e.programsOf(ctx, claimed)
	if err != nil {
		return 0, 0, err
	}
	b, err := e.gather(ctx, tx, claimed, programs, now)
	if err != nil {
		return 0, 0, err
	}
	var (
		progress store.Progress
		touches  []store.NewTouch
		missed   []store.MissedTouch
		left     = map[sequence.Reason][]int64{}
		d        sequence.Decision
		f        facts
		changed  = map[int64]bool{}
		desk     bool
		unable   []int64
	)
	for i := range claimed {
		c := &claimed[i]
		p := programs[c.Version]
		if p == nil { // programsOf has said why; who stands beside goes on
			unable = append(unable, c.ID)
			continue
		}
		d.Reset()
		b.fill(&f, c)
		p.Advance(&c.State, &f, now, &d)
		progress.Add(c, d.Logs)
		steps += len(d.Logs)
		if len(d.Logs) > 0 || len(d.Effects) > 0 {
			changed[c.Sequence] = true
		}
		for _, x := range d.Effects {
			switch x.Do {
			case sequence.SendEmail:
				m := p.Plan().Step(x.Step).(*sequence.Email).Message
				touches = append(touches, store.NewTouch{Enrolment: c.ID, Sequence: c.Sequence, Version: c.Version, Person: c.Person,
					Step: x.Step, Kind: "email", State: "ready", At: x.At, Message: m, MessageVersion: p.messages[m]})
			case sequence.PutOnDesk:
				touches = append(touches, store.NewTouch{Enrolment: c.ID, Sequence: c.Sequence, Version: c.Version, Person: c.Person,
					Step: x.Step, Kind: "call", State: "desk", At: x.At})
				desk = true
			case sequence.TakeOffDesk:
				missed = append(missed, store.MissedTouch{Enrolment: c.ID, Step: x.Step, At: x.At})
				desk = true
			case sequence.HandOver:
				if err := e.handOver(ctx, tx, c.Person, "step", c.Sequence, x.At); err != nil {
					return 0, 0, &stuck{c.ID, err}
				}
				desk = true
			}
		}
		if !c.State.Ended.IsZero() && c.State.Reason != sequence.Finished && c.State.Reason != sequence.HandedOver {
			left[c.State.Reason] = append(left[c.State.Reason], c.ID)
		}
	}
	if len(unable) > 0 {
		slog.Error("enrolments whose version cannot run are put off by an hour", "enrolments", unable)
		if err := store.PutOff(ctx, tx, unable, now.Add(time.Hour)); err != nil {
			return 0, 0, err
		}
	}
	if len(missed) > 0 {
		if err := store.MissTouches(ctx, tx, missed); err != nil {
			return 0, 0, err
		}
	}
	for reason, ids := range left {
		if err := store.Withdraw(ctx, tx, ids, string(reason), now); err != nil {
			return 0, 0, err
		}
	}
	if err := store.KeepProgress(ctx, tx, &progress); err != nil {
		return 0, 0, err
	}
	if len(touches) > 0 {
		if err := store.MakeTouches(ctx, tx, touches); err != nil {
			return 0, 0, err
		}
	}
	for q := range changed {
		if err := store.Notify(ctx, tx, topic("sequence", q)); err != nil {
			return 0, 0, err
		}
	}
	if desk {
		if err := store.Notify(ctx, tx, "desk"); err != nil {
			return 0, 0, err
		}
	}
	return len(claimed), steps, nil
}

// gathered is what the people of a batch may be asked for, loaded in a few
// queries, whatever the batch's size.
type gathered struct {
	e         *Engine
	now       time.Time
	recent    map[int64][]signal.Signal // person → signals since entering
	ever      map[int64][]signal.Signal // person → all signals
	records   map[int64]*rule.Record
	touches   map[int64][]store.EndedTouch // enrolment →
	standings map[int64]store.Standing
	model     store.Model
}

func (e *Engine) gather(ctx context.Context, tx store.Tx, claimed []store.Claimed, programs map[int64]*program, now time.Time) (*gathered, error) {
	b := &gathered{e: e, now: now}
	var recent, ever []store.Since
	var records, scored, touched []int64
	for i := range claimed {
		c := &claimed[i]
		p := programs[c.Version]
		if p == nil {
			continue
		}
		need := p.Needs(c.State.Step)
		if need&sequence.NeedHistory != 0 {
			ever = append(ever, store.Since{Person: c.Person})
		} else if need&sequence.NeedSignals != 0 {
			recent = append(recent, store.Since{Person: c.Person, From: c.State.Entered})
		}
		if need&sequence.NeedRecord != 0 {
			records = append(records, c.Person)
		}
		if need&sequence.NeedScore != 0 {
			scored = append(scored, c.Person)
		}
		// An enrolment that has only just entered has no touch yet.
		if need&sequence.NeedTouch != 0 && (c.State.Phase != sequence.Arrived || !c.State.Reached.Equal(c.State.Entered)) {
			touched = append(touched, c.ID)
		}
	}
	var err error
	if len(scored) > 0 {
		if b.model, err = e.model(ctx, tx); err != nil && !store.IsNotFound(err) {
			return nil, err
		}
		list, err := store.Standings(ctx, tx, b.model.ID, scored)
		if err != nil {
			return nil, err
		}
		b.standings = make(map[int64]store.Standing, len(list))
		for _, s := range list {
			b.standings[s.Person] = s
		}
		// A kept figure that does not hold for the whole time from reaching
		// the step until now is counted afresh.
		asks := asksRecord(&b.model.Model)
		for i := range claimed {
			c := &claimed[i]
			s, ok := b.standings[c.Person]
			if !ok || programs[c.Version] == nil || programs[c.Version].Needs(c.State.Step)&sequence.NeedScore == 0 || holds(s, c.State.Reached, now) && !b.model.Halves() {
				continue
			}
			delete(b.standings, c.Person)
			ever = append(ever, store.Since{Person: c.Person})
			if asks {
				records = append(records, c.Person)
			}
		}
	}
	if len(recent) > 0 {
		if b.recent, err = store.SignalsSince(ctx, tx, recent); err != nil {
			return nil, err
		}
	}
	if len(ever) > 0 {
		if b.ever, err = store.SignalsSince(ctx, tx, unique(ever)); err != nil {
			return nil, err
		}
	}
	if len(records) > 0 {
		if b.records, err = store.Records(ctx, tx, records); err != nil {
			return nil, err
		}
	}
	if len(touched) > 0 {
		list, err := store.EndedTouches(ctx, tx, touched)
		if err != nil {
			return nil, err
		}
		b.touches = make(map[int64][]store.EndedTouch, len(touched))
		for _, t := range list {
			b.touches[t.Enrolment] = append(b.touches[t.Enrolment], t)
		}
	}
	return b, nil
}

func unique(list []store.Since) []store.Since {
	seen := map[int64]bool{}
	out := list[:0]
	for _, s := range list {
		if !seen[s.Person] {
			seen[s.Person] = true
			out = append(out, s)
		}
	}
	return out
}

// holds reports whether a kept score is right at every instant from from to to.
func holds(s store.Standing, from, to time.Time) bool {
	return !s.CountedAt.IsZero() && !s.CountedAt.After(from) &&
		(s.Until.IsZero() || to.Before(s.Until)) && (s.Due.IsZero() || to.Before(s.Due))
}

func asksRecord(m *score.Model) bool {
	for i := range m.Rules {
		if m.Rules[i].If.Asks() {
			return true
		}
	}
	return false
}

// fill readies f to answer for one enrolment.
func (b *gathered) fill(f *facts, c *store.Claimed) {
	*f = facts{b: b, c: c}
	f.zone, _ = calendar.ZoneFor(calendar.Whereabouts{Zone: c.Zone, Country: c.Country, City: c.City}, b.e.Zone)
	f.touches = b.touches[c.ID]
	if list, ok := b.ever[c.Person]; ok {
		f.signals = list
	} else {
		f.signals = b.recent[c.Person]
	}
}

// facts answers the interpreter from what was gathered.
type facts struct {
	b       *gathered
	c       *store.Claimed
	zone    *time.Location
	signals []signal.Signal
	touches []store.EndedTouch
}

func (f *facts) Zone() *time.Location { return f.zone }

func (f *facts) Record() *rule.Record { return f.b.records[f.c.Person] }

func (f *facts) Count(p *signal.Pattern, from, to time.Time) int {
	return signal.Count(f.signals, p, from, to)
}

func (f *facts) Nth(p *signal.Pattern, n int, from, to time.Time) (time.Time, bool) {
	return signal.Nth(f.signals, p, n, from, to)
}

func (f *facts) Touch(id sequence.StepID) sequence.Touch {
	for i := range f.touches {
		if t := &f.touches[i]; t.Step == int32(id) {
			return sequence.Touch{At: t.At, Ended: true}
		}
	}
	return sequence.Touch{}
}

func (f *facts) Score(at time.Time) float64 {
	if s, ok := f.b.standings[f.c.Person]; ok {
		return s.Score
	}
	return f.b.model.At(f.b.ever[f.c.Person], f, at)
}

func (f *facts) Left() (sequence.Reason, bool) {
	if f.c.DoNotContact {
		return sequence.MustNotContact, true
	}
	if f.c.StoppedAt.IsZero() || f.c.StoppedAt.Before(f.c.State.Entered) {
		return "", false
	}
	return sequence.LeaveFor(signal.Kind(f.c.StoppedBy))
}
