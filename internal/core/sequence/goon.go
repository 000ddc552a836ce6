package sequence

import "ombak/internal/core/act"

// GoOn ends the way and enters another sequence, where its entry allows it; where it
// does not, the log says why and the way ends all the same.
type GoOn struct {
	Common
	Timing
	Sequence int64 `json:"sequence,omitempty"`
}

var kindGoOn = Register(11, &Kind{Word: "go on", Does: "to another sequence",
	Icon: "arrow-bend-up-right", Key: "g", Sort: Leaving,
	Look: Closing, Line: gone},
	func() Step { return &GoOn{Common: Common{Title: "Go on"}} })

// Kind describes goings on.
func (*GoOn) Kind() *Kind { return kindGoOn }

// Exits are none: their way ends.
func (*GoOn) Exits() []Exit { return nil }

// Says names the sequence.
func (s *GoOn) Says(n Names) string {
	if name := n.sequence(s.Sequence); name != "" {
		return "to “" + name + "”"
	}
	return "to another sequence"
}

// Settings tell when.
func (s *GoOn) Settings(Names) []Setting {
	return append([]Setting{{"When", s.Timing.Says()}}, s.settings()...)
}

func (s *GoOn) parts() []Part { return []Part{{s.ID, SequencePart, s.Sequence}} }

func (s *GoOn) check(_ *Plan, report func(string)) {
	if s.Sequence <= 0 {
		report("goes on to no sequence yet")
	}
	s.Timing.check(report)
}

func (s *GoOn) takes() (before, after float64) { return s.Wait.NominalDays(), 0 }
func (s *GoOn) needs() Need                    { return NeedEntry }
func (s *GoOn) does() []act.Act                { return []act.Act{act.GoOn{Sequence: s.Sequence}} }

func (s *GoOn) advance(r *run) verdict {
	v, ok := r.ready(s, ends)
	switch {
	case !ok && v.exit == ends && (v.reason == DateOver || v.reason == EventOff): // there is no way on without it
		return verdict{exit: ends, at: v.at, reason: TooLate}
	case !ok:
		return v
	}
	if why := r.f.Bars(s.Sequence); why != "" {
		return verdict{exit: ends, at: r.now, reason: CouldNotGoOn(why)}
	}
	r.begin()
	return verdict{exit: ends, at: r.now, reason: WentOn}
}

// WentOn is why somebody left who entered another sequence from this one.
const WentOn Reason = "went on"

// CouldNotGoOn is why somebody left who was to enter another sequence whose entry did
// not allow it.
func CouldNotGoOn(why string) Reason { return Reason("could not go on: " + why) }

func (s *GoOn) made(what PartKind, id int64) bool {
	s.Sequence = id
	return what == SequencePart
}
