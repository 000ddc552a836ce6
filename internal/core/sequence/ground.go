package sequence

import (
	"slices"

	"ombak/internal/core/act"
	"ombak/internal/core/contact"
)

// timed is a step that is due at an instant, when an act begins it.
type timed interface {
	Step
	timing() *Timing
	does() []act.Act
}

// reaching is a timed step that reaches the person: by which channel, and whether
// it answers their own request.
type reaching interface {
	timed
	reaches() (contact.Channel, bool)
}

// On is by which channel and on what ground a touch of the plan reaches people.
func (p *Plan) On(s reaching) (contact.Channel, contact.Ground) {
	by, request := s.reaches()
	if request {
		return by, contact.Ground{Request: true}
	}
	if e, ok := s.(*Email); ok && e.Purpose != 0 {
		return by, contact.Ground{Purpose: e.Purpose}
	}
	g := p.Ground
	g.Request = false
	return by, g
}

// OwnPurposes lists the purposes that emails of the plan ask consent to instead of its
// ground, each once, in the order of the steps.
func (p *Plan) OwnPurposes() (out []int64) {
	for _, s := range p.Steps {
		e, ok := s.(*Email)
		if ok && !e.Request && e.Purpose != 0 && e.Purpose != p.Ground.Purpose && !slices.Contains(out, e.Purpose) {
			out = append(out, e.Purpose)
		}
	}
	return out
}

// Asking is the first email that asks a consent to this purpose; 0: none does.
func (p *Plan) Asking(purpose int64) StepID {
	for _, s := range p.Steps {
		if e, ok := s.(*Email); ok && !e.Request && e.Purpose == purpose {
			return e.ID
		}
	}
	return 0
}

// GroundOf is the ground of a step that reaches people; of any other, none.
func (p *Plan) GroundOf(id StepID) contact.Ground {
	if s, ok := p.Step(id).(reaching); ok {
		_, g := p.On(s)
		return g
	}
	return contact.Ground{}
}

// RestsAfter reports whether a step reaches people other than by their own request, which
// rests count, and whether by an email.
func (p *Plan) RestsAfter(id StepID) (any, email bool) {
	s, ok := p.Step(id).(reaching)
	if !ok {
		return false, false
	}
	by, ground := p.On(s)
	return !ground.Request, !ground.Request && by == contact.Email
}

// Reaches is a channel together with a ground.
type Reaches struct {
	By contact.Channel
	On contact.Ground
}

// Ways lists by which channels and on what grounds the plan reaches people,
// each once: emails before calls and these before the rest, then emails that ask a consent
// of their own, and what somebody asked for themselves last.
func (p *Plan) Ways() []Reaches {
	g := p.Ground
	g.Request = false
	var all []Reaches
	for _, by := range contact.Channels() {
		all = append(all, Reaches{by, g})
	}
	for _, id := range p.OwnPurposes() {
		all = append(all, Reaches{contact.Email, contact.Ground{Purpose: id}})
	}
	all = append(all, Reaches{contact.Email, contact.Ground{Request: true}})
	has := make([]bool, len(all))
	for _, s := range p.Steps {
		if t, ok := s.(reaching); ok {
			by, ground := p.On(t)
			if i := slices.Index(all, Reaches{by, ground}); i >= 0 {
				has[i] = true
			}
		}
	}
	var out []Reaches
	for i, w := range all {
		if has[i] {
			out = append(out, w)
		}
	}
	return out
}

// WhyNot is why somebody cannot enter the plan: no touch of it may reach them.
// It is the reason of the first of its ways; empty where one of them may.
func (p *Plan) WhyNot(f contact.Facts) contact.Reason {
	var first contact.Reason
	for _, w := range p.Ways() {
		why := contact.Why(f, w.By, w.On)
		if why == "" {
			return ""
		}
		if first == "" {
			first = why
		}
	}
	return first
}
