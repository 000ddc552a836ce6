package sequence

import "ombak/internal/core/calendar"

// Call puts a call on the desk of the person's rep. It is done when somebody
// records its outcome; the sequence waits for that, for Limit at most.
type Call struct {
	Common
	Guide  string        `json:"guide,omitempty"` // what to say, for the rep
	Wait   calendar.Span `json:"wait"`
	Limit  calendar.Span `json:"limit"`             // zero: 5 working days
	NoWait bool          `json:"no_wait,omitempty"` // go on at once, whatever becomes of the call
}

// callLimit is how long a call waits for its outcome where the step does not say.
var callLimit = calendar.Span{N: 5, Unit: calendar.WorkingDays}

var kindCall = register(1, &Kind{Word: "call", Does: "puts a call on a rep’s desk", Exits: []Exit{Done, Missed}, Touch: true,
	make: func() Step { return &Call{Common: Common{Title: "Call"}, Limit: callLimit} }})

// Kind describes calls.
func (*Call) Kind() *Kind { return kindCall }

// Says tells when it comes to the desk.
func (s *Call) Says() string { return waitWords(s.Wait) }

func (s *Call) check(_ *Plan, report func(string)) {
	for _, w := range []calendar.Span{s.Wait, s.Limit} {
		if err := w.Check(); err != nil {
			report(err.Error())
		}
	}
}

func (s *Call) takes() (before, after float64) { return s.Wait.NominalDays(), 0 }
func (s *Call) needs() Need                    { return NeedTouch }

func (s *Call) advance(r *run) verdict {
	if r.st.Phase == Out {
		if t := r.f.Touch(s.ID); t.Ended {
			return verdict{exit: 0, at: t.At}
		}
		if limit := r.st.Due; !limit.IsZero() && !limit.After(r.now) {
			r.effect(TakeOffDesk)
			return verdict{exit: 1, at: limit}
		}
		return r.out(r.st.Due)
	}
	if !r.due(s.Wait, false) {
		return verdict{exit: waits}
	}
	r.effect(PutOnDesk)
	if s.NoWait {
		return verdict{exit: 0, at: r.now}
	}
	limit := s.Limit
	if limit.N == 0 {
		limit = callLimit
	}
	return r.out(limit.After(r.now, r.f.Zone(), r.p.Working))
}
