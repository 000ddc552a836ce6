package sequence

import (
	"ombak/internal/core/act"
	"ombak/internal/core/calendar"
	"ombak/internal/core/signal"
)

// Work is a step whose touch somebody does, who then says what came of it.
type Work interface {
	Step
	timed
	// Tells is what whoever does it is told.
	Tells() string
	// Words are what is to be said or written, ready to be copied.
	Words() string
	// Outcomes lists what can come of it, in the order in which a desk offers them.
	Outcomes() []Outcome
	// Told is the signal that an outcome is of the person; 0: it is none.
	Told(Outcome) signal.Kind

	toDo() *ToDo
	// leads is the place of the exit to which an outcome leads; one that is not known,
	// from before there were several, leads to the first.
	leads(Outcome) int
	missed() int // the place of the exit of what nobody did in time
}

// ToDo is what every step has that waits for somebody to do it, for Limit at most.
type ToDo struct {
	Timing
	Limit  calendar.Span `json:"limit"`             // zero: 5 working days
	NoWait bool          `json:"no_wait,omitempty"` // go on at once, whatever becomes of it
}

// usualLimit is how long work waits for its outcome where the step does not say.
var usualLimit = calendar.Span{N: 5, Unit: calendar.WorkingDays}

// Words are none.
func (*ToDo) Words() string { return "" }

func (t *ToDo) toDo() *ToDo { return t }

func (t *ToDo) check(report func(string)) {
	t.Timing.check(report)
	if err := t.Limit.Check(); err != nil {
		report(err.Error())
	}
}

func (t *ToDo) settings() []Setting {
	limit := t.Limit
	if limit.N == 0 {
		limit = usualLimit
	}
	wait := "until it is done, at most " + limit.String()
	if t.NoWait {
		wait = "not at all"
	}
	return append(t.Timing.settings(), Setting{"The sequence waits", wait})
}

func (t *ToDo) takes() (before, after float64) { return t.Wait.NominalDays(), 0 }
func (t *ToDo) needs() Need                    { return NeedTouch }

// Outcome is what became of work, as whoever did it says.
type Outcome string

// work walks somebody on through a step that waits for work: it comes to the desk in
// its hours, an outcome at the limit itself is in time, and one that is recorded later
// is kept and changes nothing.
func (r *run) work(s Work) verdict {
	if r.st.Phase == Out {
		return r.onDesk(s)
	}
	if v, ok := r.ready(s, s.missed()); !ok {
		return v
	}
	return r.toDesk(s)
}

// toDesk puts the work on the desk.
func (r *run) toDesk(s Work) verdict {
	r.begin()
	t := s.toDo()
	if t.NoWait {
		return verdict{exit: 0, at: r.now}
	}
	limit := t.Limit
	if limit.N == 0 {
		limit = usualLimit
	}
	return r.out(limit.After(r.now, r.f.Zone(), r.p.workingFor(r.f)).Add(tick))
}

// onDesk looks at what became of it.
func (r *run) onDesk(s Work) verdict {
	limit := r.st.Due.Add(-tick)
	switch t := r.mine(r.n.id); {
	case t.Ended && t.Why != "":
		return verdict{exit: s.missed(), at: t.At, reason: PassedOver(t.Why)}
	case t.Ended && !t.At.After(limit):
		return verdict{exit: s.leads(t.What), at: t.At}
	case limit.Before(r.now):
		if !t.Ended {
			r.act(act.Withdraw{})
			r.stale = r.p.plan.Rest.Days > 0 // it reached nobody, and counts for no rest
		}
		return verdict{exit: s.missed(), at: limit}
	}
	return r.out(r.st.Due)
}
