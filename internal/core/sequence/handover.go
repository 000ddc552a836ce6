package sequence

import "ombak/internal/core/act"

// Handover gives the person to a rep and ends the way.
type Handover struct {
	Common
}

var kindHandover = Register(5, &Kind{Word: "hand over", Does: "gives the person to a rep and ends",
	Icon: "handshake", Look: Handing, Line: gone},
	func() Step { return &Handover{Common{Title: "Hand over"}} })

// Kind describes handings over.
func (*Handover) Kind() *Kind { return kindHandover }

// Says tells to whom.
func (*Handover) Says(Names) string { return "to the owner, else in turn" }

// Exits are none: their way ends.
func (*Handover) Exits() []Exit { return nil }

func (*Handover) check(*Plan, func(string))      {}
func (*Handover) takes() (before, after float64) { return 0, 0 }

func (s *Handover) advance(r *run) verdict {
	if r.closing {
		return r.wait(r.st.Reached)
	}
	r.act(act.HandOver{})
	return verdict{exit: ends, at: r.now, reason: HandedOver}
}
