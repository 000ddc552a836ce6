package sequence

import (
	"strings"
	"time"

	"ombak/internal/core/calendar"
)

var zero time.Time

// Pause lets time pass: a while, or until an instant before or after an event. Who comes
// later than that, or finds the event cancelled, goes on at once.
type Pause struct {
	Common
	For   calendar.Span `json:"for"`
	Until *FromEvent    `json:"until,omitempty"` // nil: For
}

var kindPause = Register(4, &Kind{Word: "pause", Does: "lets time pass",
	Icon: "hourglass-medium", Key: "p", Sort: Parting, Line: onTheWay},
	func() Step {
		return &Pause{Common: Common{Title: "Pause"}, For: calendar.Span{N: 3, Unit: calendar.Days}}
	})

// Kind describes pauses.
func (*Pause) Kind() *Kind { return kindPause }

// Exits are one: it goes on.
func (*Pause) Exits() []Exit { return onward }

// Says tells how long.
func (s *Pause) Says(Names) string {
	if s.Until != nil {
		return "until " + strings.TrimPrefix(s.Until.String(), "when ")
	}
	return s.For.String()
}

func (s *Pause) events() []int64 {
	if s.Until == nil {
		return nil
	}
	return []int64{s.Until.Event}
}

func (s *Pause) check(_ *Plan, report func(string)) {
	if s.Until != nil {
		if err := s.Until.Check(); err != nil {
			report(err.Error())
		}
		return
	}
	if err := s.For.Check(); err != nil {
		report(err.Error())
	} else if s.For.N == 0 {
		report("pauses for no time at all")
	}
}

func (s *Pause) takes() (before, after float64) {
	if s.Until != nil {
		return 0, 1
	}
	return 0, s.For.NominalDays()
}

// least is how long the pause takes at least, wherever somebody is.
func (s *Pause) least() time.Duration {
	if s.Until != nil {
		return 0
	}
	return s.For.Least()
}

func (s *Pause) advance(r *run) verdict {
	if s.Until != nil {
		until, known, _ := r.from(s.Until)
		if until = latest(until, known); until.After(r.now) {
			return r.wait(until)
		}
		return verdict{exit: 0, at: until}
	}
	until := s.For.After(r.st.Reached, r.f.Zone(), r.p.workingFor(r.f))
	if until.After(r.now) {
		return r.wait(until)
	}
	return verdict{exit: 0, at: until}
}
