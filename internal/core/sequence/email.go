package sequence

import "ombak/internal/core/calendar"

// Email sends a message. It is done when the mail server has taken it.
type Email struct {
	Common
	Message int64         `json:"message,omitempty"`
	Wait    calendar.Span `json:"wait"`
	Request bool          `json:"request,omitempty"` // answers the reader's own request: goes out at any hour
}

var kindEmail = register(0, &Kind{Word: "email", Does: "sends a message", Exits: []Exit{Next}, Touch: true,
	make: func() Step { return &Email{Common: Common{Title: "Email"}} }})

// Kind describes emails.
func (*Email) Kind() *Kind { return kindEmail }

// Says tells when it goes out.
func (s *Email) Says() string { return waitWords(s.Wait) }

func (s *Email) check(_ *Plan, report func(string)) {
	if s.Message == 0 {
		report("has no message yet")
	}
	if err := s.Wait.Check(); err != nil {
		report(err.Error())
	}
}

func (s *Email) takes() (before, after float64) { return s.Wait.NominalDays(), 0 }
func (s *Email) needs() Need                    { return NeedTouch }

func (s *Email) advance(r *run) verdict {
	if r.st.Phase == Out {
		if t := r.f.Touch(s.ID); t.Ended {
			return verdict{exit: 0, at: t.At}
		}
		return r.out(r.st.Due)
	}
	if !r.due(s.Wait, s.Request) {
		return verdict{exit: waits}
	}
	r.effect(SendEmail)
	return r.out(zero)
}

func waitWords(w calendar.Span) string {
	if w.N == 0 {
		return "at once"
	}
	return "after " + w.String()
}
