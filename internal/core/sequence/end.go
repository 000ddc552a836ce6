package sequence

// End ends the way; its title says how.
type End struct {
	Common
}

var kindEnd = Register(12, &Kind{Word: "end", Does: "ends the way",
	Icon: "flag", Key: "n", Sort: Leaving, Look: Closing, Line: gone},
	func() Step { return &End{Common{Title: "End"}} })

// Kind describes ends.
func (*End) Kind() *Kind { return kindEnd }

// Says says nothing more.
func (*End) Says(Names) string { return "" }

// Exits are none.
func (*End) Exits() []Exit { return nil }

func (*End) check(*Plan, func(string))      {}
func (*End) takes() (before, after float64) { return 0, 0 }

func (s *End) advance(r *run) verdict {
	return verdict{exit: ends, at: r.st.Reached, reason: Finished}
}
