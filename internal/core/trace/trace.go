// Package trace runs a plan in virtual time over given people and what they do: no
// database, no network, no clock. It asks the interpreter of the live engine, which
// decides everything; what is here stands in for the world around it. An email is
// taken the moment it goes out, work has the outcomes that are given, and a worker
// looks at everybody whenever there is something to look at.
package trace

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
	"time"

	"ombak/internal/core/act"
	"ombak/internal/core/calendar"
	"ombak/internal/core/contact"
	"ombak/internal/core/event"
	"ombak/internal/core/person"
	"ombak/internal/core/rule"
	"ombak/internal/core/sequence"
	"ombak/internal/core/signal"
)

// Person is somebody a plan is run over.
type Person struct {
	ID      string
	Entered time.Time
	Zone    *time.Location
	Rests   calendar.Holidays // of their country
	Record  rule.Record
	Score   float64                 // their engagement, which stays as it is
	Scores  map[rule.Figure]float64 // others, likewise: by another model, or for one kind of points
	Reach   contact.Facts
	Signals []signal.Signal // in the order of package signal
	Work    []Outcome       // of the work that steps ask for
	Bars    map[int64]string
	Events  map[int64]event.Event // that the plan is reckoned from, as they are all the time
	// TookBack is when they took back the consent that the plan rests on; zero: never.
	TookBack time.Time
	Touched  time.Time // the last email that they got from elsewhere; zero: never
}

// Outcome is what came of the work of a step, at an instant. It is recorded at the first
// instant, at or after its own, at which the work is on the desk.
type Outcome struct {
	Step sequence.StepID
	At   time.Time
	What sequence.Outcome
}

// Line is a step that somebody did, or their leaving.
type Line struct {
	Person string
	sequence.Log
}

// Run walks somebody through a program from when they enter until an instant, that
// instant too, and answers their log.
func Run(p *sequence.Program, who *Person, until time.Time) []Line {
	var w Walker
	var out []Line
	w.Walk(p, who, until, func(l sequence.Log) { out = append(out, Line{who.ID, l}) })
	return out
}

// Walk is Run for many, one after the other: each line of the log is told as it comes, and
// nothing is kept of it.
func (w *Walker) Walk(p *sequence.Program, who *Person, until time.Time, each func(sequence.Log)) {
	if who.Entered.After(until) {
		return
	}
	w.begin(p, who)
	st := &w.st
	*st = p.Enter(who.Entered)
	for now := who.Entered; !now.After(until); {
		w.now = now
		w.d.Reset()
		p.Advance(st, w, now, &w.d)
		for _, l := range w.d.Logs {
			each(l)
		}
		again := false
		for _, e := range w.d.Effects {
			again = w.do(e) || again
		}
		if !st.Ended.IsZero() {
			return
		}
		if again { // what is done at once has its person looked at once more
			continue
		}
		next, ok := w.next(st)
		if !ok {
			return
		}
		now = next
	}
}

// Walker walks people through plans, one after the other. Its zero value is ready.
type Walker struct {
	who     *Person
	now     time.Time
	record  rule.Record
	changed bool // the record is no longer who's, and may be changed
	touches map[sequence.StepID]sequence.Touch
	desk    []sequence.StepID // work that is on it
	program *sequence.Program
	made    []made // touches, in their order
	st      sequence.State
	d       sequence.Decision
}

// begin readies the world around somebody.
func (w *Walker) begin(p *sequence.Program, who *Person) {
	w.who, w.program, w.record, w.changed = who, p, who.Record, false
	w.desk, w.made = w.desk[:0], w.made[:0]
	if w.touches == nil {
		w.touches = map[sequence.StepID]sequence.Touch{}
	}
	clear(w.touches)
}

// own has the record be one that may be changed.
func (w *Walker) own() {
	if !w.changed {
		w.record, w.changed = clone(w.record), true
	}
}

// made is a touch that reaches somebody, as rests count it.
type made struct {
	step  sequence.StepID
	at    time.Time
	email bool
}

// next is the next instant, after now, at which there is something to look at.
func (w *Walker) next(st *sequence.State) (next time.Time, ok bool) {
	at := func(t time.Time) {
		if t.After(w.now) && (!ok || t.Before(next)) {
			next, ok = t, true
		}
	}
	if !st.Look.IsZero() {
		at(st.Look)
	}
	for i := range w.who.Signals {
		at(w.who.Signals[i].At)
	}
	at(w.who.TookBack)
	for _, id := range w.desk {
		if t := w.touches[id]; t.Ended {
			at(t.At)
		}
	}
	return next, ok
}

// do does what a step asks for, and reports whether it is done already.
func (w *Walker) do(e sequence.Effect) bool {
	if any, email := w.program.RestsAfter(e.Step); any {
		if _, gone := e.Act.(act.Withdraw); gone { // nobody did it: it reached nobody
			w.made = slices.DeleteFunc(w.made, func(m made) bool { return m.step == e.Step })
		} else {
			w.made = append(w.made, made{e.Step, e.At, email})
		}
	}
	switch a := e.Act.(type) {
	case act.Send:
		w.touches[e.Step] = sequence.Touch{At: e.At, Ended: true, Visit: e.Visit}
		return true
	case act.Work:
		w.desk = append(w.desk, e.Step)
		for _, o := range w.who.Work {
			if o.Step == e.Step {
				at := o.At
				if at.Before(e.At) {
					at = e.At
				}
				w.touches[e.Step] = sequence.Touch{At: at, Ended: true, What: o.What, Visit: e.Visit}
				return at.Equal(e.At)
			}
		}
	case act.Withdraw:
		return true
	case act.Set:
		w.own()
		w.record.Values = setValue(w.record.Values, rule.Field(a.Field), a.Value)
		return true
	case act.Include:
		w.own()
		if !slices.Contains(w.record.Audiences, a.Audience) {
			w.record.Audiences = append(w.record.Audiences, a.Audience)
		}
		return true
	case act.Exclude:
		w.own()
		w.record.Audiences = without(w.record.Audiences, a.Audience)
		return true
	case act.Revoke:
		w.own()
		w.record.Consents = without(w.record.Consents, a.Purpose)
		return true
	case act.OpenDeal:
		w.own()
		if !slices.ContainsFunc(w.record.Deals, func(d rule.DealFact) bool { return d.Closed.IsZero() }) {
			w.record.Deals = append(w.record.Deals, rule.DealFact{Stage: a.Stage})
		}
		return true
	case act.MoveDeal:
		w.own()
		for i := range w.record.Deals {
			if w.record.Deals[i].Closed.IsZero() {
				w.record.Deals[i].Stage = a.Stage
			}
		}
		return true
	case act.Tag, act.Untag, act.Give, act.Assign, act.Note, act.Points: // the step is done, whatever it did
		return true
	}
	return false
}

func clone(r rule.Record) rule.Record {
	values := person.Values{}
	for k, v := range r.Values {
		values[k] = v
	}
	r.Values = values
	r.Tags, r.Audiences, r.Consents = slices.Clone(r.Tags), slices.Clone(r.Audiences), slices.Clone(r.Consents)
	r.Deals = slices.Clone(r.Deals)
	return r
}

func setValue(v person.Values, f rule.Field, value string) person.Values {
	if value == "" {
		delete(v, f)
	} else {
		v[f] = value
	}
	return v
}

func without(list []int64, id int64) []int64 {
	return slices.DeleteFunc(list, func(x int64) bool { return x == id })
}

// What the interpreter asks.

func (w *Walker) Zone() *time.Location        { return w.who.Zone }
func (w *Walker) Record() *rule.Record        { return &w.record }
func (w *Walker) Holidays() calendar.Holidays { return w.who.Rests }
func (w *Walker) Reach() contact.Facts        { return w.who.Reach }
func (w *Walker) Bars(q int64) string         { return w.who.Bars[q] }

// Rested is when they were last reached, by now.
func (w *Walker) Rested(any bool) time.Time {
	last := w.who.Touched
	if last.After(w.now) {
		last = time.Time{}
	}
	for _, m := range w.made {
		at := m.at
		if t := w.Touch(m.step); t.Ended {
			at = t.At
		}
		if (any || m.email) && at.After(last) {
			last = at
		}
	}
	return last
}

// Touch is what has become of a touch by now.
func (w *Walker) Touch(id sequence.StepID) sequence.Touch {
	if t := w.touches[id]; t.Ended && !t.At.After(w.now) {
		return t
	}
	return sequence.Touch{}
}

func (w *Walker) Count(p *signal.Pattern, from, to time.Time) int {
	return signal.Count(w.who.Signals, p, from, w.known(to))
}

func (w *Walker) Nth(p *signal.Pattern, n int, from, to time.Time) (time.Time, bool) {
	return signal.Nth(w.who.Signals, p, n, from, w.known(to))
}

// known is the part of a time that has been by now.
func (w *Walker) known(to time.Time) time.Time {
	if w.now.Before(to) {
		return w.now
	}
	return to
}

// Event is an event of theirs.
func (w *Walker) Event(id int64) (event.Event, bool) { e, ok := w.who.Events[id]; return e, ok }

// Left is the first of what makes them leave, by now.
func (w *Walker) Left() (reason sequence.Reason, at time.Time, left bool) {
	for i := range w.who.Signals {
		s := &w.who.Signals[i]
		if s.At.After(w.now) {
			break
		}
		r, stops := sequence.LeaveFor(s.Kind)
		if stops && !s.Machine && s.At.After(w.who.Entered) && !w.program.Plan().Stays(r) {
			reason, at, left = r, s.At, true
			break
		}
	}
	if t := w.who.TookBack; t.After(w.who.Entered) && !t.After(w.now) && (!left || t.Before(at)) {
		reason, at, left = sequence.TookBack, t, true
	}
	return reason, at, left
}

// Sort puts lines in the order of their instants, then of the people as they came.
func Sort(lines []Line) {
	slices.SortStableFunc(lines, func(a, b Line) int { return a.At.Compare(b.At) })
}

// String says a line, for errors.
func (l Line) String() string {
	return strings.TrimSpace(fmt.Sprintf("%s step %d at %s %s %s", l.Person, l.Step,
		l.At.UTC().Format(time.RFC3339Nano), cmp.Or(string(l.Exit), "–"), l.Reason))
}

// Score is the one that they came with.
func (w *Walker) Score(of rule.Figure, _ time.Time) float64 {
	if of == (rule.Figure{}) {
		return w.who.Score
	}
	return w.who.Scores[of]
}
