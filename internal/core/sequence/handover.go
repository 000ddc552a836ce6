package sequence

// Handover gives the person to a rep and ends the way.
type Handover struct {
	Common
}

var kindHandover = register(5, &Kind{Word: "hand over", Does: "gives the person to a rep and ends",
	make: func() Step { return &Handover{Common{Title: "Hand over"}} }})

// Kind describes handings over.
func (*Handover) Kind() *Kind { return kindHandover }

// Says tells to whom.
func (*Handover) Says() string { return "to the owner, else in turn" }

func (*Handover) check(*Plan, func(string))      {}
func (*Handover) takes() (before, after float64) { return 0, 0 }

func (s *Handover) advance(r *run) verdict {
	if r.closing {
		return r.wait(r.st.Reached)
	}
	r.effect(HandOver)
	return verdict{exit: ends, at: r.now, reason: HandedOver}
}
