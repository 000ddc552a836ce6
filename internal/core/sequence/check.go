package sequence

import "ombak/internal/core/rule"

// Check tests a rule at the instant it is reached.
type Check struct {
	Common
	Rule rule.Rule `json:"rule"`
}

// The exits of a check.
const (
	Yes Exit = "yes"
	No  Exit = "no"
)

var checkExits = []Exit{Yes, No}

var kindCheck = Register(6, &Kind{Word: "check", Does: "asks yes or no",
	Icon: "scales", Key: "q", Sort: Parting},
	func() Step { return &Check{Common{Title: "Check"}, rule.ScoreAtLeast(15)} })

// Kind describes checks.
func (*Check) Kind() *Kind { return kindCheck }

// Exits are that the rule holds, and that it does not.
func (*Check) Exits() []Exit { return checkExits }

// Answer is yes or no.
func (*Check) Answer(e Exit) string {
	if e == Yes {
		return "Yes"
	}
	return "No"
}

// Says gives the rule in words.
func (s *Check) Says(n Names) string { return s.Rule.Words(n.Rules) }

func (s *Check) check(_ *Plan, report func(string)) {
	if !s.Rule.Asks() {
		report("asks nothing yet")
	}
	if err := s.Rule.Check(nil); err != nil {
		report(err.Error())
	}
}

func (s *Check) takes() (before, after float64) { return 0, 0 }

func (s *Check) needs() Need { return needsOf(&s.Rule) }

func needsOf(r *rule.Rule) Need {
	var n Need
	if c := r.If; c != nil {
		switch {
		case c.Signal != nil:
			n |= NeedHistory
		case c.Score, c.About == rule.InBand:
			n |= NeedScore
		case c.About != "":
			n |= NeedRecord | NeedAround
		default:
			n |= NeedRecord
		}
	}
	for _, list := range [][]rule.Rule{r.All, r.Any, r.None} {
		for i := range list {
			n |= needsOf(&list[i])
		}
	}
	return n
}

func (s *Check) advance(r *run) verdict {
	if s.Rule.Holds(r.f, r.st.Reached) {
		return verdict{exit: 0, at: r.st.Reached}
	}
	return verdict{exit: 1, at: r.st.Reached}
}
