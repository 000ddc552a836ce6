package sequence

import (
	"fmt"
	"time"

	"ombak/internal/core/calendar"
	"ombak/internal/core/plainly"
)

// Timing is when a step is due: some time after it is reached, or on a date. What
// reaches people then waits for its sending hours.
type Timing struct {
	Wait calendar.Span `json:"wait"` // after it is reached; zero: at once
	// Date is the day on which it is due, at Clock, in the zone of the sending hours:
	// the reader's own, or the fixed one. Zero: it is due after Wait.
	Date  calendar.Date `json:"date,omitzero"`
	Clock int           `json:"clock,omitempty"` // minutes since midnight
	Late  Late          `json:"late,omitempty"`  // where it is reached later than that
	// From is an instant before or after an event; nil: none. Late holds for it too.
	From *FromEvent `json:"from,omitempty"`
	// Own are sending hours of its own; nil: those of the sequence.
	Own *calendar.SendingHours `json:"own_hours,omitempty"`
}

// Late says what becomes of a step whose date is over when somebody comes to it.
type Late string

// What there is. The zero Late passes it over.
const (
	LatePass  Late = ""
	LateNow   Late = "now"
	LateLeave Late = "leave"
)

// Lates lists them.
func Lates() []Late { return []Late{LatePass, LateNow, LateLeave} }

// Says says what is done: "is passed over".
func (l Late) Says() string {
	switch l {
	case LateNow:
		return "is done at once"
	case LateLeave:
		return "ends their way"
	}
	return "is passed over"
}

// timing gives t itself to whatever embeds it.
func (t *Timing) timing() *Timing { return t }

// Due is when a step is due.
func (t *Timing) Due() Timing { return *t }

// Dated reports whether the step is due on a date.
func (t Timing) Dated() bool { return t.Date != calendar.Date{} }

// Bound reports whether it is due at an instant that does not follow from when it is
// reached, and so can be over by then.
func (t Timing) Bound() bool { return t.Dated() || t.From != nil }

// Says says when: "after 3 days", "on 14 May 2026 at 09:00".
func (t Timing) Says() string {
	switch {
	case t.From != nil:
		return t.From.String()
	case t.Dated():
		return fmt.Sprintf("on %d %s %d at %02d:%02d", t.Date.Day, t.Date.Month, t.Date.Year, t.Clock/60, t.Clock%60)
	case t.Wait.N == 0:
		return "at once"
	}
	return "after " + t.Wait.String()
}

func (t *Timing) settings() []Setting {
	var out []Setting
	if t.Bound() {
		out = append(out, Setting{"When its date is over", t.Late.Says()})
	}
	if t.Own != nil {
		out = append(out, Setting{"Its own hours", t.Own.String()})
	}
	return out
}

func (t *Timing) check(report func(string)) {
	if err := t.Wait.Check(); err != nil {
		report(err.Error())
	}
	if err := t.checkDate(); err != nil {
		report(err.Error())
	}
	if t.Own != nil {
		if err := t.Own.Check(); err != nil {
			report("its own " + err.Error())
		}
	}
}

func (t *Timing) checkDate() error {
	d := t.Date
	switch {
	case t.From != nil:
		if err := t.From.Check(); err != nil {
			return err
		}
	case !t.Dated():
		return nil
	case d.Year < 2000 || d.Year > 2200 || d.Add(0) != d:
		return plainly.New("its date is no day of the calendar")
	case t.Clock < 0 || t.Clock >= 24*60:
		return plainly.New("its time is none of the day")
	}
	switch {
	case t.Late.Says() == LatePass.Says() && t.Late != LatePass:
		return plainly.New("says in no known way what is done when its date is over")
	}
	return nil
}

// due is the instant at which a step that is reached is due, before any sending
// hours; late where its date was over before, or before the event it is reckoned from was
// moved there.
func (t *Timing) due(r *run) (at time.Time, late bool) {
	if t.From != nil {
		at, known, _ := r.from(t.From)
		return at, at.Before(known)
	}
	if !t.Dated() {
		return t.Wait.After(r.st.Reached, r.f.Zone(), r.p.workingFor(r.f)), false
	}
	at = calendar.At(t.Date, time.Duration(t.Clock)*time.Minute, r.zoneOf(t))
	return at, at.Before(r.st.Reached)
}

// hoursOf are the sending hours of a step.
func (p *Plan) hoursOf(t *Timing) *calendar.SendingHours {
	if t.Own == nil {
		return &p.Hours
	}
	if len(p.Hours.Off) == 0 && t.Own.Holidays == p.Hours.Holidays {
		return t.Own
	}
	own := *t.Own
	own.Off, own.Holidays = p.Hours.Off, p.Hours.Holidays // days off are those of the sequence
	return &own
}

// zoneOf is the zone in which a step's hours and date are read.
func (r *run) zoneOf(t *Timing) *time.Location {
	return r.p.plan.hoursIn(t, r.f.Zone())
}

// Reasons of steps whose date was over when somebody came to them.
const (
	// DateOver stands beside the exit by which they went on without it.
	DateOver Reason = "passed over: its date was over"
	// TooLate is why they left.
	TooLate Reason = "came after its date"
)
