package sequence

import (
	"maps"
	"slices"

	"ombak/internal/core/calendar"
	"ombak/internal/core/contact"
	"ombak/internal/core/plainly"
	"ombak/internal/core/rule"
)

// Edit is a change of a plan, whoever makes it: a page, a command or a file.
type Edit interface {
	// Apply makes the change. what says it in words, step is the one to look at
	// next; 0: none. Where it fails, p is not to be used any more.
	Apply(p *Plan) (what string, step StepID, err error)
}

// InsertStep puts a new step of a kind, with its usual settings, on the stream that
// leaves From by Exits; From 0 is before the start.
type InsertStep struct {
	Kind  string
	From  StepID
	Exits []Exit
}

// Apply inserts it.
func (x InsertStep) Apply(p *Plan) (string, StepID, error) {
	var first Exit
	var also []Exit
	if len(x.Exits) > 0 {
		first, also = x.Exits[0], x.Exits[1:]
	}
	id, err := p.Add(x.Kind, x.From, first, also...)
	return "insert " + x.Kind, id, err
}

// ChangeStep gives the step with the id of With its title and settings. Where its
// exits lead stays as it is.
type ChangeStep struct{ With Step }

// Apply changes it.
func (x ChangeStep) Apply(p *Plan) (string, StepID, error) {
	mine := x.With.About()
	for i, s := range p.Steps {
		if s.About().ID != mine.ID {
			continue
		}
		if s.Kind() != x.With.Kind() {
			return "", 0, ErrNoStep
		}
		if mine.Title == "" {
			return "", 0, plainly.New("give the step a title")
		}
		mine.To, mine.Make = maps.Clone(s.About().To), s.About().Make
		p.Steps[i] = x.With
		if err := p.refit(x.With); err != nil {
			return "", 0, err
		}
		return "change “" + mine.Title + "”", mine.ID, nil
	}
	return "", 0, ErrNoStep
}

// refit has the exits of a step lead somewhere after it was changed: a new one to an
// end of its own. What led on from one that is gone goes, where nothing else leads
// there.
func (p *Plan) refit(s Step) error {
	c, exits := s.About(), s.Exits()
	for e := range c.To {
		if !slices.Contains(exits, e) {
			delete(c.To, e)
		}
	}
	for _, e := range exits {
		if _, ok := c.To[e]; ok {
			continue
		}
		if len(p.Steps) >= MaxSteps {
			return ErrTooMany
		}
		p.LastID++
		end := kindEnd.make()
		end.About().ID = p.LastID
		p.Steps = append(p.Steps, end)
		c.To[e] = p.LastID
	}
	p.prune()
	return nil
}

// SetMaking says who makes the part of a step, and by when.
type SetMaking struct {
	ID   StepID
	Make Making
}

// Apply says it.
func (x SetMaking) Apply(p *Plan) (string, StepID, error) {
	s := p.Step(x.ID)
	if s == nil {
		return "", 0, ErrNoStep
	}
	s.About().Make = x.Make
	return "who makes “" + s.About().Title + "”", 0, nil
}

// SetEvent says which event the plan is about; 0: none.
type SetEvent struct{ Event int64 }

// Apply says it.
func (x SetEvent) Apply(p *Plan) (string, StepID, error) {
	p.Event = x.Event
	return "the event", 0, nil
}

// SetPart gives a step the part that was made for it.
type SetPart struct {
	ID   StepID
	What PartKind
	Part int64
}

// Apply gives it.
func (x SetPart) Apply(p *Plan) (string, StepID, error) {
	s := p.Step(x.ID)
	m, ok := s.(interface{ made(PartKind, int64) bool })
	if !ok || !m.made(x.What, x.Part) {
		return "", 0, ErrNoStep
	}
	return "made for “" + s.About().Title + "”", x.ID, nil
}

// RemoveStep takes a step out.
type RemoveStep struct{ ID StepID }

// Apply takes it out.
func (x RemoveStep) Apply(p *Plan) (string, StepID, error) {
	s := p.Step(x.ID)
	if s == nil {
		return "", 0, ErrNoStep
	}
	return "remove “" + s.About().Title + "”", 0, p.Remove(x.ID)
}

// ChangePlan sets what holds for the plan as a whole.
type ChangePlan struct {
	Hours       calendar.SendingHours
	Ground      contact.Ground
	LaunchHold  bool
	LongestStay calendar.Span
	Rest        Rest
	Stay        []Reason
	LeaveIf     *rule.Rule
	Event       int64 // that it is about; 0: none
	Sender      int64 // whose account its emails go out by; 0: as each message says
}

// Apply sets it.
func (x ChangePlan) Apply(p *Plan) (string, StepID, error) {
	p.Hours, p.Ground, p.LaunchHold = x.Hours, x.Ground, x.LaunchHold
	p.LongestStay, p.Rest, p.Stay, p.LeaveIf = x.LongestStay, x.Rest, x.Stay, x.LeaveIf
	p.Event, p.Sender = x.Event, x.Sender
	for _, err := range []error{x.Hours.Check(), x.LongestStay.Check(), x.Rest.Check()} {
		if err != nil {
			return "", 0, err
		}
	}
	return "change the settings", 0, nil
}

// CloneStep is a copy of a step that shares nothing with it.
func CloneStep(s Step) Step {
	return (&Plan{Steps: []Step{s}}).Clone().Steps[0]
}
