// Package flow enters people into sequences, walks them on and has done for them what
// their steps ask for.
//
// It decides nothing on its own: in one transaction the store claims what is due, the
// core says what to do, and the store keeps it. Any number of workers can do so on one
// database at once.
package flow

import (
	"context"
	"log/slog"
	"maps"
	"slices"
	"sync"
	"time"

	"ombak/internal/core/calendar"
	"ombak/internal/core/contact"
	"ombak/internal/core/event"
	"ombak/internal/core/news"
	"ombak/internal/core/rule"
	"ombak/internal/core/sequence"
	"ombak/internal/core/signal"
	"ombak/internal/engine/base"
	"ombak/internal/store"
)

// Flow walks people through sequences.
type Flow struct {
	*base.Base
	programs  sync.Map // version → *program
	plans     sync.Map // version → *sequence.Plan
	executors map[string]Executor
	turns     turns
	entered   entered
	coming    gatherer
	running   struct { // what runs, by version: nobody changes it
		sync.Mutex
		plans map[int64]*sequence.Plan
	}
}

// New readies a flow; the other rooms say with Does what they do.
func New(b *base.Base) *Flow {
	f := &Flow{Base: b}
	f.Does("enrol", Each(f.enrol))
	f.Does("go on", Each(f.goOn))
	f.Does("write", Each(f.writeOnce))
	f.Does("send", Each(f.write))
	f.Does("work", Each(f.putOnDesk))
	f.Does("withdraw", Each(f.takeOffDesk))
	return f
}

// BatchSize is how many enrolments one transaction looks at.
const BatchSize = 500

// AdvanceBatch walks on up to n enrolments that have to be looked at by now
// and answers how many it looked at and how many steps they did.
//
// An enrolment whose data cannot be kept is looked for in ever smaller batches, put
// off by an hour and logged; it does not keep the others.
func (e *Flow) AdvanceBatch(ctx context.Context, n int) (looked, steps int, err error) {
	now := e.Now()
	for {
		var claimed []store.Claimed
		err = e.Store.InTx(ctx, func(tx store.Tx) error {
			claimed, steps, err = e.advance(ctx, tx, now, n)
			return err
		})
		if len(claimed) == 0 || !store.OfData(err) {
			return len(claimed), steps, err
		}
		if len(claimed) > 1 {
			n = max(1, len(claimed)/8)
			continue
		}
		id := claimed[0].ID
		slog.Error("an enrolment cannot be walked on and is put off by an hour", "enrolment", id, "error", err)
		err = e.Store.InTx(ctx, func(tx store.Tx) error {
			return tx.PutOff(ctx, []int64{id}, now.Add(time.Hour))
		})
		return 1, 0, err
	}
}

func (e *Flow) advance(
	ctx context.Context, tx store.Tx, now time.Time, n int,
) (claimed []store.Claimed, steps int, err error) {
	waiting, err := uncountedSequences(ctx, tx)
	if err != nil {
		return nil, 0, err
	}
	if crowd := e.turns.others(); crowd != 0 {
		began := time.Now()
		if claimed, err = tx.ClaimDue(ctx, now, n, append(slices.Clone(waiting), crowd)); err != nil {
			return nil, 0, err
		}
		e.turns.had(time.Since(began))
	}
	if len(claimed) == 0 {
		if claimed, err = tx.ClaimDue(ctx, now, n, waiting); err != nil || len(claimed) == 0 {
			return nil, 0, err
		}
		e.turns.claimed(claimed, n)
	}
	w, err := e.walk(ctx, tx, claimed, now, nil)
	if err != nil {
		return claimed, 0, err
	}
	if len(w.unable) > 0 {
		slog.Error("enrolments whose version cannot run are put off by an hour", "enrolments", w.unable)
		err = tx.PutOff(ctx, w.unable, now.Add(time.Hour))
	}
	return claimed, w.steps, err
}

// walk looks at claimed enrolments, each as far as it goes by now, and keeps
// what comes of it. Where out is set, all of them leave.
func (e *Flow) walk(
	ctx context.Context, tx store.Tx, claimed []store.Claimed, now time.Time, out *leaving,
) (*walk, error) {
	programs, err := e.programsOf(ctx, tx, claimed)
	if err != nil {
		return nil, err
	}
	b, err := e.gather(ctx, tx, claimed, programs, now)
	if err != nil {
		return nil, err
	}
	b.out = out
	w := &walk{left: map[sequence.Reason][]int64{}, changed: map[int64]bool{}}
	var d sequence.Decision
	var f facts
	for i := range claimed {
		c := &claimed[i]
		p := programs[c.Version]
		if p == nil { // programsOf has said why; who stands beside goes on
			w.unable = append(w.unable, c.ID)
			continue
		}
		d.Reset()
		b.fill(&f, c, p)
		p.Advance(&c.State, &f, now, &d)
		b.touched(c.Person, p, d.Effects)
		w.add(c, p, &d)
	}
	if err := e.Do(ctx, tx, w.deeds); err != nil {
		return nil, err
	}
	return w, w.keep(ctx, tx, now)
}

// walk is what has become of enrolments that were looked at together.
type walk struct {
	progress store.Progress
	deeds    []Deed
	left     map[sequence.Reason][]int64
	changed  map[int64]bool // sequences
	moved    []int64        // people
	unable   []int64        // enrolments whose version cannot run
	steps    int
}

// add notes what was decided about one of them.
func (w *walk) add(c *store.Claimed, p *program, d *sequence.Decision) {
	w.progress.Add(c, d.Logs)
	w.steps += len(d.Logs)
	if len(d.Logs) > 0 || len(d.Effects) > 0 {
		w.changed[c.Sequence] = true
		w.moved = append(w.moved, c.Person)
	}
	for _, x := range d.Effects {
		w.deeds = append(w.deeds, Deed{x.Act, Occasion{Person: c.Person, At: x.At, By: "step", How: p.how(x.Step),
			Way: &way{c, p, x.Step, x.Visit}}})
	}
	if !c.State.Ended.IsZero() && !c.State.Reason.Planned() {
		w.left[c.State.Reason] = append(w.left[c.State.Reason], c.ID)
	}
}

// keep writes it back, in a few statements however many they are.
func (w *walk) keep(ctx context.Context, tx store.Tx, now time.Time) error {
	for reason, ids := range w.left {
		if err := tx.Withdraw(ctx, ids, string(reason), now); err != nil {
			return err
		}
	}
	if err := tx.KeepProgress(ctx, &w.progress); err != nil {
		return err
	}
	if len(w.changed) == 0 {
		return nil
	}
	events := []news.Item{news.Way.About(w.moved...)}
	for q := range w.changed {
		events = append(events, news.Sequence.Of(q))
	}
	return tx.Notify(ctx, events...)
}

// leaving is why and when somebody leaves everything they are on.
type leaving struct {
	reason sequence.Reason
	at     time.Time
}

func latest(a, b time.Time) time.Time {
	if a.After(b) {
		return a
	}
	return b
}

// gathered is what the people of a batch may be asked for, loaded in a few
// queries, whatever the batch's size.
type gathered struct {
	e        *Flow
	now      time.Time
	recent   map[int64][]signal.Signal // person → signals since entering
	ever     map[int64][]signal.Signal // person → all signals
	records  map[int64]*rule.Record
	touches  map[int64][]store.EndedTouch // enrolment →
	scores   []scores
	rested   map[int64]store.LastTouch  // of those whose plan leaves people in peace
	bars     map[int64]map[int64]string // sequence → person → why they cannot enter it
	events   map[int64]event.Event
	excluded map[int64]time.Time // enrolment → when they came to be among those who are left out
	out      *leaving            // all of them leave; nil: as their facts say
}

// scores are those of a batch by one model: as they are kept, where that holds.
type scores struct {
	model store.Model
	kept  map[int64]store.Standing
}

func (e *Flow) gather(
	ctx context.Context, tx store.Tx, claimed []store.Claimed, programs map[int64]*program, now time.Time,
) (*gathered, error) {
	b := &gathered{e: e, now: now}
	var recent, ever []store.Since
	var records, fields, scored, touched []int64
	var rests []int64
	// Whoever else looks at one of them waits, and sees what is made here: also of plans that leave nobody in peace
	// themselves, for others do.
	var reached []int64
	goOn := map[int64][]int64{} // sequence → who may come to go on to it
	var events []int64
	for i := range claimed {
		c := &claimed[i]
		p := programs[c.Version]
		if p == nil {
			continue
		}
		need := p.NeedsBy(c.State, now)
		if need&sequence.NeedHistory != 0 {
			ever = append(ever, store.Since{Person: c.Person})
		} else if need&sequence.NeedSignals != 0 {
			recent = append(recent, store.Since{Person: c.Person, From: c.State.Entered})
		}
		if need&sequence.NeedAround != 0 {
			records = append(records, c.Person)
		} else if need&sequence.NeedRecord != 0 {
			fields = append(fields, c.Person)
		}
		if need&sequence.MayReach != 0 {
			reached = append(reached, c.Person)
		}
		if need&sequence.NeedRest != 0 {
			rests = append(rests, c.Person)
		}
		if need&sequence.NeedEvent != 0 {
			events = append(events, p.events...)
		}
		if need&sequence.NeedEntry != 0 {
			for _, q := range p.goesOn {
				goOn[q] = append(goOn[q], c.Person)
			}
		}
		if need&sequence.NeedScore != 0 {
			scored = append(scored, c.Person)
		}
		// An enrolment that has only just entered has no touch yet.
		if need&sequence.NeedTouch != 0 &&
			(c.State.Phase != sequence.Arrived || !c.State.Reached.Equal(c.State.Entered)) {
			touched = append(touched, c.ID)
		}
	}
	var err error
	if b.excluded, err = tx.Excluded(ctx, claimed); err != nil {
		return nil, err
	}
	if err := gatherConsents(ctx, tx, claimed, programs); err != nil {
		return nil, err
	}
	if len(scored) > 0 {
		anew, asks, err := b.gatherScores(ctx, tx, claimed, programs, scored)
		if err != nil {
			return nil, err
		}
		for _, id := range anew {
			ever = append(ever, store.Since{Person: id})
			if asks {
				records = append(records, id)
			}
		}
	}
	if len(reached) > 0 {
		if err := tx.LockRests(ctx, reached); err != nil {
			return nil, err
		}
	}
	if len(rests) > 0 {
		if b.rested, err = tx.LastTouches(ctx, rests); err != nil {
			return nil, err
		}
	}
	for q, people := range goOn {
		if b.bars == nil {
			b.bars = make(map[int64]map[int64]string, len(goOn))
		}
		if b.bars[q], err = tx.Bars(ctx, q, people, now); err != nil {
			return nil, err
		}
	}
	if len(events) > 0 {
		slices.Sort(events)
		if b.events, err = tx.EventsByID(ctx, slices.Compact(events)); err != nil {
			return nil, err
		}
	}
	if len(recent) > 0 {
		if b.recent, err = tx.SignalsSince(ctx, recent); err != nil {
			return nil, err
		}
	}
	if len(ever) > 0 {
		if b.ever, err = tx.SignalsSince(ctx, Unique(ever)); err != nil {
			return nil, err
		}
	}
	if b.records, err = tx.RecordFields(ctx, fields); err != nil {
		return nil, err
	}
	whole, err := tx.Records(ctx, records)
	if err != nil {
		return nil, err
	}
	maps.Copy(b.records, whole)
	if len(touched) > 0 {
		list, err := tx.EndedTouches(ctx, touched)
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

// gatherConsents adds what people say of the purposes that single emails ask, besides that of
// the plan's ground.
func gatherConsents(ctx context.Context, tx store.Tx, claimed []store.Claimed, programs map[int64]*program) error {
	var people, purposes []int64
	for i := range claimed {
		if p := programs[claimed[i].Version]; p != nil && len(p.asks) > 0 {
			people = append(people, claimed[i].Person)
			purposes = append(purposes, p.asks...)
		}
	}
	if len(people) == 0 {
		return nil
	}
	said, err := tx.ConsentsTo(ctx, people, purposes)
	if err != nil {
		return err
	}
	for i := range claimed {
		c := &claimed[i]
		if p := programs[c.Version]; p != nil && len(p.asks) > 0 {
			for _, s := range said[c.Person] {
				if slices.Contains(p.asks, s.Purpose) {
					c.Reach.Consents = append(c.Reach.Consents, s)
				}
			}
		}
	}
	return nil
}

// Unique lists each person once, with the first of what is asked for them.
func Unique(list []store.Since) []store.Since {
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

// fill readies f to answer for one enrolment.
func (b *gathered) fill(f *facts, c *store.Claimed, p *program) {
	*f = facts{b: b, c: c, plan: p.Plan(), answers: p.Needs(c.State.Step)&sequence.Answers != 0}
	f.zone, _ = calendar.ZoneFor(calendar.Whereabouts{Zone: c.Zone, Country: c.Country, City: c.City}, b.e.Zone())
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
	plan    *sequence.Plan
	answers bool // an email that answers their own request can follow
}

func (f *facts) Zone() *time.Location { return f.zone }

func (f *facts) Holidays() calendar.Holidays { return f.b.e.Holidays(f.c.Country) }

func (f *facts) Record() *rule.Record { return f.b.records[f.c.Person] }

func (f *facts) Count(p *signal.Pattern, from, to time.Time) int {
	return signal.Count(f.signals, p, from, to)
}

func (f *facts) Nth(p *signal.Pattern, n int, from, to time.Time) (time.Time, bool) {
	return signal.Nth(f.signals, p, n, from, to)
}

func (f *facts) Touch(id sequence.StepID) sequence.Touch {
	var newest sequence.Touch
	for i := range f.touches {
		if t := &f.touches[i]; t.Step == int32(id) && t.Visit > newest.Visit {
			newest = sequence.Touch{At: t.At, Ended: true, Why: t.Why, What: t.What, Visit: t.Visit}
		}
	}
	return newest
}

func (f *facts) Score(of rule.Figure, at time.Time) float64 {
	for i := range f.b.scores {
		b := &f.b.scores[i]
		if of.Model != 0 && of.Model != b.model.ID {
			continue
		}
		if s, ok := b.kept[f.c.Person]; ok {
			return s.Of(of.Rule)
		}
		return b.model.Of(of.Rule, f.b.ever[f.c.Person], f, at)
	}
	return 0
}

// gatherScores reads the scores by each model, and lists of whom some have to be counted afresh: because a kept figure
// does not hold for the whole time from reaching the step until now, or halves. Asks says that this asks for records.
func (b *gathered) gatherScores(
	ctx context.Context, tx store.Tx, claimed []store.Claimed, programs map[int64]*program, people []int64,
) (anew []int64, asks bool, err error) {
	models, err := b.e.ScoreModels(ctx, tx.Queries)
	if err != nil {
		return nil, false, err
	}
	for i := range models {
		m := scores{models[i], make(map[int64]store.Standing, len(people))}
		list, err := tx.Standings(ctx, m.model.ID, people)
		if err != nil {
			return nil, false, err
		}
		for _, s := range list {
			m.kept[s.Person] = s
		}
		for i := range claimed {
			c := &claimed[i]
			s, ok := m.kept[c.Person]
			p := programs[c.Version]
			if !ok || p == nil || p.NeedsBy(c.State, b.now)&sequence.NeedScore == 0 ||
				holds(s, c.State.Reached, b.now) && !m.model.Halves() {
				continue
			}
			delete(m.kept, c.Person)
			anew, asks = append(anew, c.Person), asks || m.model.AsksRecord()
		}
		b.scores = append(b.scores, m)
	}
	return anew, asks, nil
}

// touched notes the touches of a person that were just made: what is looked at after them
// in the same batch sees them.
func (b *gathered) touched(person int64, p *program, made []sequence.Effect) {
	last, ok := b.rested[person]
	if !ok {
		return
	}
	for _, x := range made {
		if any, email := p.RestsAfter(x.Step); any {
			last.Any = latest(last.Any, x.At)
			if email {
				last.Email = latest(last.Email, x.At)
			}
		}
	}
	b.rested[person] = last
}

func (f *facts) Rested(any bool) time.Time {
	if last := f.b.rested[f.c.Person]; any {
		return last.Any
	} else {
		return last.Email
	}
}

func (f *facts) Event(id int64) (event.Event, bool) { e, ok := f.b.events[id]; return e, ok }

func (f *facts) Bars(q int64) string { return f.b.bars[q][f.c.Person] }

func (f *facts) Reach() contact.Facts { return f.c.Reach }

// Left is the first of what makes them leave. What is asked of the record is a
// second look at what ended their ways already when it happened: somebody can
// enter while an answer of theirs is being kept. Whoever must not be contacted
// still gets what they ask for themselves.
func (f *facts) Left() (reason sequence.Reason, at time.Time, left bool) {
	if f.b.out != nil && !f.plan.Stays(f.b.out.reason) {
		return f.b.out.reason, f.b.out.at, true
	}
	first := func(r sequence.Reason, t time.Time) {
		if f.plan.Stays(r) {
			return
		}
		if !left || t.Before(at) {
			reason, at, left = r, t, true
		}
	}
	if f.c.StoppedAt.After(f.c.State.Entered) {
		if r, ok := sequence.LeaveFor(signal.Kind(f.c.StoppedBy)); ok {
			first(r, f.c.StoppedAt)
		}
	}
	if f.c.TookBack.After(f.c.State.Entered) {
		first(sequence.TookBack, f.c.TookBack)
	}
	if at, ok := f.b.excluded[f.c.ID]; ok {
		first(sequence.JoinedExclusion, at)
	}
	if f.c.Reach.DoNotContact && !f.answers {
		first(sequence.MustNotContact, f.b.now)
	}
	return reason, at, left
}
