package sequence

import (
	"ombak/internal/core/act"
	"ombak/internal/core/contact"
)

// reaching is a step that reaches somebody: by which channel, and whether it
// answers their own request.
type reaching interface {
	Step
	reaches() (contact.Channel, bool)
	does() act.Act // that begins it
}

// On is by which channel and on what ground a touch of the plan reaches people.
func (p *Plan) On(s reaching) (contact.Channel, contact.Ground) {
	by, request := s.reaches()
	if request {
		return by, contact.Ground{Request: true}
	}
	g := p.Ground
	g.Request = false
	return by, g
}

// GroundOf is the ground of a step that reaches people; of any other, none.
func (p *Plan) GroundOf(id StepID) contact.Ground {
	if s, ok := p.Step(id).(reaching); ok {
		_, g := p.On(s)
		return g
	}
	return contact.Ground{}
}

// Way is a channel together with a ground.
type Way struct {
	By contact.Channel
	On contact.Ground
}

// Ways lists by which channels and on what grounds the plan reaches people,
// each once: emails before calls, and what somebody asked for themselves last.
func (p *Plan) Ways() []Way {
	var has [3]bool
	for _, s := range p.Steps {
		if t, ok := s.(reaching); ok {
			switch by, request := t.reaches(); {
			case request:
				has[2] = true
			default:
				has[by] = true
			}
		}
	}
	g := p.Ground
	g.Request = false
	var out []Way
	for i, w := range []Way{{contact.Email, g}, {contact.Call, g}, {contact.Email, contact.Ground{Request: true}}} {
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
