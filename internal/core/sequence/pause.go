package sequence

import (
	"time"

	"ombak/internal/core/calendar"
)

var zero time.Time

// Pause lets time pass.
type Pause struct {
	Common
	For calendar.Span `json:"for"`
}

var kindPause = Register(4, &Kind{Word: "pause", Does: "lets time pass",
	Icon: "hourglass-medium", Key: "p", Sort: Parting, Line: onTheWay},
	func() Step { return &Pause{Common{Title: "Pause"}, calendar.Span{N: 3, Unit: calendar.Days}} })

// Kind describes pauses.
func (*Pause) Kind() *Kind { return kindPause }

// Exits are one: it goes on.
func (*Pause) Exits() []Exit { return onward }

// Says tells how long.
func (s *Pause) Says(Names) string { return s.For.String() }

func (s *Pause) check(_ *Plan, report func(string)) {
	if err := s.For.Check(); err != nil {
		report(err.Error())
	} else if s.For.N == 0 {
		report("pauses for no time at all")
	}
}

func (s *Pause) takes() (before, after float64) { return 0, s.For.NominalDays() }

func (s *Pause) advance(r *run) verdict {
	until := s.For.After(r.st.Reached, r.f.Zone(), r.p.Working)
	if until.After(r.now) {
		return r.wait(until)
	}
	return verdict{exit: 0, at: until}
}
