package sequence

import (
	"ombak/internal/core/act"
	"ombak/internal/core/contact"
)

// Email sends a message. It is done when the mail server has taken it.
type Email struct {
	Common
	Timing
	Message int64  `json:"message,omitempty"`
	Request bool   `json:"request,omitempty"` // answers the reader's own request: goes out at any hour
	Sender  int64  `json:"sender,omitempty"`  // by whose account it goes out; 0: as the plan says
	Purpose int64  `json:"purpose,omitempty"` // who has agreed to it gets it; 0: as the plan's ground says
	Thread  StepID `json:"thread,omitempty"`  // the email in whose thread it answers; 0: it begins one
}

var kindEmail = Register(0, &Kind{Word: "email", Does: "sends a message",
	Icon: "envelope-simple", Key: "e", Sort: ReachOut,
	Line: mailed, Results: mailResults},
	func() Step { return &Email{Common: Common{Title: "Email"}} })

// Kind describes emails.
func (*Email) Kind() *Kind { return kindEmail }

// Exits are one: it goes on.
func (*Email) Exits() []Exit { return onward }

// Says tells when it goes out.
func (s *Email) Says(Names) string { return s.Timing.Says() }

// Settings name the message, and whose account it goes out by where the step says that.
func (s *Email) Settings(n Names) []Setting {
	out := []Setting{{"Message", n.Messages[s.Message]}}
	if s.Sender != 0 {
		out = append(out, Setting{"By the account of", n.user(s.Sender)})
	}
	if s.Purpose != 0 {
		out = append(out, Setting{"Goes to who agreed to", n.purpose(s.Purpose)})
	}
	return append(out, s.settings()...)
}

// SenderOf is by whose account the email of a step goes out; 0: as its message says.
func (p *Plan) SenderOf(id StepID) int64 {
	if s, ok := p.Step(id).(*Email); ok && s.Sender != 0 {
		return s.Sender
	}
	return p.Sender
}

func (s *Email) parts() []Part   { return []Part{{s.ID, MessagePart, s.Message}} }
func (s *Email) does() []act.Act { return []act.Act{act.Send{Message: s.Message}} }

func (s *Email) check(p *Plan, report func(string)) {
	if s.Message == 0 {
		report("has no message yet")
	}
	if s.Purpose < 0 {
		report("asks a consent that is still to be chosen")
	}
	if _, ok := p.Step(s.Thread).(*Email); s.Thread != 0 && (!ok || !p.leads(s.Thread, s.ID)) {
		report("answers in the thread of an email that does not come before it")
	}
	s.Timing.check(report)
}

func (s *Email) takes() (before, after float64) { return s.Wait.NominalDays(), 0 }
func (s *Email) needs() Need {
	if s.Request {
		return NeedTouch | Answers
	}
	return NeedTouch
}
func (s *Email) reaches() (contact.Channel, bool) { return contact.Email, s.Request }

func (s *Email) advance(r *run) verdict {
	if r.st.Phase == Out {
		if t := r.mine(s.ID); t.Ended {
			v := verdict{exit: 0, at: t.At}
			if t.Why != "" {
				v.reason = PassedOver(t.Why)
			}
			return v
		}
		return r.out(r.st.Due)
	}
	if v, ok := r.ready(s, 0); !ok {
		return v
	}
	r.begin()
	return r.out(zero)
}

// ThreadOf lists the emails in whose thread an email of the plan answers, the
// nearest first; none where it begins a thread.
func (p *Plan) ThreadOf(id StepID) []StepID {
	var out []StepID
	for len(out) < len(p.Steps) {
		e, ok := p.Step(id).(*Email)
		if !ok || e.Thread == 0 {
			break
		}
		id = e.Thread
		out = append(out, id)
	}
	return out
}

func (s *Email) made(what PartKind, id int64) bool {
	s.Message = id
	return what == MessagePart
}
