package sequence

import (
	"math"

	"ombak/internal/core/rule"
)

// Asks visits each rule that the plan asks, with its step; 0: the leave rule.
func (p *Plan) Asks(visit func(StepID, *rule.Rule)) {
	if p.LeaveIf != nil {
		visit(0, p.LeaveIf)
	}
	for _, s := range p.Steps {
		if x, ok := s.(interface{ asks() []*rule.Rule }); ok {
			for _, r := range x.asks() {
				visit(s.About().ID, r)
			}
		}
	}
}

func (s *Check) asks() []*rule.Rule { return []*rule.Rule{&s.Rule} }

func (s *Sort) asks() []*rule.Rule {
	out := make([]*rule.Rule, len(s.Ways))
	for i := range s.Ways {
		out[i] = &s.Ways[i].Rule
	}
	return out
}

// Busiest is at most how many touches of some of its steps go out on one day, where n people
// enter at once or, with waves, one wave after the other. Nobody takes two ways at a fork, so
// that what counts is the way with most of them.
func (p *Plan) Busiest(n int64, w Wave, which func(Step) bool) int64 {
	days := p.Days()
	most := int64(0) // of one person on one day
	for _, s := range p.Steps {
		day := math.Floor(days[s.About().ID])
		most = max(most, p.most(func(s Step) bool { return which(s) && math.Floor(days[s.About().ID]) == day }))
	}
	busiest := n * most
	if w.N > 0 {
		wave := int64(w.N)
		if w.Per == Hour {
			wave *= 24
		}
		busiest = min(busiest, wave*p.most(which))
	}
	return busiest
}

// most is how many of some steps there are on the way that has most of them.
func (p *Plan) most(which func(Step) bool) (most int64) {
	order, ok := p.order()
	if !ok {
		return 0 // Check says that it leads back to itself
	}
	before := map[StepID]int64{} // on the ways that lead to a step
	for _, id := range order {
		s := p.Step(id)
		n := before[id]
		if which(s) {
			n++
		}
		most = max(most, n)
		for _, to := range s.About().To {
			before[to] = max(before[to], n)
		}
	}
	return most
}
