package sequence

// End ends the way; its title says how.
type End struct {
	Common
}

var kindEnd = register(6, &Kind{Word: "end", Does: "ends the way",
	make: func() Step { return &End{Common{Title: "End"}} }})

// Kind describes ends.
func (*End) Kind() *Kind { return kindEnd }

// Says says nothing more.
func (*End) Says() string { return "" }

func (*End) check(*Plan, func(string))      {}
func (*End) takes() (before, after float64) { return 0, 0 }

func (s *End) advance(r *run) verdict {
	return verdict{exit: ends, at: r.st.Reached, reason: Finished}
}
