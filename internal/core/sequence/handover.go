package sequence

import "ombak/internal/core/act"

// Handover gives the person to a rep and ends the way.
type Handover struct {
	Common
	Timing
}

var kindHandover = Register(10, &Kind{Word: "hand over", Does: "to a rep, and ends",
	Icon: "handshake", Key: "h", Sort: Leaving, Look: Handing, Line: gone},
	func() Step { return &Handover{Common: Common{Title: "Hand over"}} })

// Kind describes handings over.
func (*Handover) Kind() *Kind { return kindHandover }

// Says tells to whom.
func (*Handover) Says(Names) string { return "to the owner, else in turn" }

// Exits are none: their way ends.
func (*Handover) Exits() []Exit { return nil }

// Settings tell when.
func (s *Handover) Settings(Names) []Setting {
	if !s.Bound() && s.Wait.N == 0 {
		return s.settings()
	}
	return append([]Setting{{"When", s.Timing.Says()}}, s.settings()...)
}

func (s *Handover) check(_ *Plan, report func(string)) { s.Timing.check(report) }
func (s *Handover) takes() (before, after float64)     { return s.Wait.NominalDays(), 0 }
func (*Handover) does() []act.Act                      { return []act.Act{act.HandOver{}} }

func (s *Handover) advance(r *run) verdict {
	v, ok := r.ready(s, ends)
	switch {
	case !ok && v.exit == ends && (v.reason == DateOver || v.reason == EventOff): // there is no way on without it
		return verdict{exit: ends, at: v.at, reason: TooLate}
	case !ok:
		return v
	}
	r.begin()
	return verdict{exit: ends, at: r.now, reason: HandedOver}
}
