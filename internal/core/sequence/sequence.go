// Package sequence holds plans of touches and the interpreter that walks
// people through them.
//
// A plan is a graph of steps with one start; each step has named exits and
// there is no circle. The kinds of step are one closed set: Step can only be
// implemented here, one file for each kind. Steps keep their ids from version
// to version, so results and people on the way stay attached to them.
package sequence

import (
	"encoding/json"
	"fmt"
	"reflect"
	"slices"
	"sort"

	"ombak/internal/core/calendar"
	"ombak/internal/core/contact"
	"ombak/internal/core/plainly"
	"ombak/internal/core/rule"
)

// StepID names a step within its sequence, for ever.
type StepID int32

// Exit is the name of a way out of a step.
type Exit string

// Next is the exit of a step that has only one.
const Next Exit = "next"

var onward = []Exit{Next}

// Step is one step of a plan. Its implementations are the kinds of step.
type Step interface {
	About() *Common
	Kind() *Kind
	// Exits lists its ways out in the order in which a map draws them; the first is
	// the main one. It must not be changed.
	Exits() []Exit
	// Answer is what an exit stands for, in a word or two: "Clicked". Where there is
	// only one it says nothing.
	Answer(Exit) string
	// Says gives the step's figure-less line on the map: "5 days for a click".
	Says(Names) string
	// Settings are those of its settings that Says leaves out.
	Settings(Names) []Setting

	check(p *Plan, report func(string))
	// takes is what the step lets pass on a plan's time axis, in days: before
	// it happens, and from then until its exits are reached.
	takes() (before, after float64)
	advance(r *run) verdict
}

// Common is what every step has.
type Common struct {
	ID    StepID          `json:"id"`
	Title string          `json:"title"`
	To    map[Exit]StepID `json:"to,omitempty"`
	Make  Making          `json:"make,omitzero"` // who makes what it is made of
}

// Making is who makes a part that is missing, and by when. The zero Making says neither.
type Making struct {
	Who int64         `json:"who,omitempty"` // a user
	By  calendar.Date `json:"by,omitzero"`
}

// About returns c itself, so that every kind that embeds it has what a Step needs.
func (c *Common) About() *Common { return c }

// Answer says nothing.
func (*Common) Answer(Exit) string { return "" }

// Settings are none.
func (*Common) Settings(Names) []Setting { return nil }

// Plan is a sequence as it is drawn. The zero Plan has no step and cannot be
// launched.
type Plan struct {
	Start       StepID                `json:"start"`
	LastID      StepID                `json:"last_id"` // the highest id ever given
	Steps       []Step                `json:"-"`
	Hours       calendar.SendingHours `json:"hours"`
	LaunchHold  bool                  `json:"launch_hold"`  // the first touches wait a working day
	LongestStay calendar.Span         `json:"longest_stay"` // zero: no limit
	Ground      contact.Ground        `json:"ground"`       // on which it reaches people; zero: none yet
	Rest        Rest                  `json:"rest,omitzero"`
	Sender      int64                 `json:"sender,omitempty"`   // by whose account its emails go; 0: as each says
	Event       int64                 `json:"event,omitempty"`    // that it is about; 0: none, or still to be made
	Stay        []Reason              `json:"stay,omitempty"`     // for which, of those of MayStay, nobody leaves
	LeaveIf     *rule.Rule            `json:"leave_if,omitempty"` // whoever meets it leaves; nil: there is none
}

// MaxSteps bounds a plan.
const MaxSteps = 200

// NewPlan is a plan that does nothing yet: people enter and end.
func NewPlan() *Plan {
	end := kindEnd.make()
	end.About().ID = 1
	return &Plan{Start: 1, LastID: 1, Steps: []Step{end}, Hours: calendar.OfficeHours(8*60+30, 17*60), LaunchHold: true,
		LongestStay: calendar.Span{N: 42, Unit: calendar.Days}}
}

// Step returns the step with that id, or nil.
func (p *Plan) Step(id StepID) Step {
	for _, s := range p.Steps {
		if s.About().ID == id {
			return s
		}
	}
	return nil
}

type plainPlan Plan

// MarshalJSON writes each step with its kind's word beside its own fields.
func (p Plan) MarshalJSON() ([]byte, error) {
	steps := make([]json.RawMessage, len(p.Steps))
	for i, s := range p.Steps {
		body, err := json.Marshal(s)
		if err != nil {
			return nil, err
		}
		word, _ := json.Marshal(s.Kind().Word)
		steps[i] = append(append([]byte(`{"kind":`), word...), append([]byte{','}, body[1:]...)...)
	}
	return json.Marshal(struct {
		plainPlan
		Steps []json.RawMessage `json:"steps"`
	}{plainPlan(p), steps})
}

// UnmarshalJSON reads what MarshalJSON writes; an unknown kind is an error.
func (p *Plan) UnmarshalJSON(data []byte) error {
	var raw struct {
		plainPlan
		Steps []json.RawMessage `json:"steps"`
	}
	if err := json.Unmarshal(data, &raw); err != nil {
		return err
	}
	if len(raw.Steps) > MaxSteps {
		return plainly.Errorf("a plan has at most %d steps", MaxSteps)
	}
	*p = Plan(raw.plainPlan)
	for i, body := range raw.Steps {
		var head struct{ Kind string }
		if err := json.Unmarshal(body, &head); err != nil {
			return plainly.Errorf("step %d: %w", i+1, err)
		}
		s := New(head.Kind)
		if s == nil {
			return plainly.Errorf("step %d: there is no kind of step %q", i+1, head.Kind)
		}
		// An empty one: what was left out as zero must not come back as a usual setting.
		s = reflect.New(reflect.TypeOf(s).Elem()).Interface().(Step)
		if err := json.Unmarshal(body, s); err != nil {
			return plainly.Errorf("step %d: %w", i+1, err)
		}
		// A plan from before a kind had all its exits goes on by the main one.
		if to := s.About().To; len(to) > 0 {
			for _, e := range s.Exits() {
				if _, ok := to[e]; !ok {
					to[e] = to[s.Exits()[0]]
				}
			}
		}
		p.Steps = append(p.Steps, s)
	}
	return nil
}

// Clone returns a copy that shares nothing with p.
func (p *Plan) Clone() *Plan {
	data, err := json.Marshal(p)
	if err != nil {
		panic(fmt.Sprintf("sequence: a plan that cannot be written: %v", err)) // no field of a plan can fail to
	}
	q := &Plan{}
	if err := json.Unmarshal(data, q); err != nil {
		panic(fmt.Sprintf("sequence: a plan that cannot be read back: %v", err))
	}
	return q
}

// Errors of editing a plan.
var (
	ErrNoStep  = plainly.New("there is no such step any more")
	ErrNoExit  = plainly.New("there is no such exit any more")
	ErrNoKind  = plainly.New("there is no such kind of step")
	ErrTooMany = plainly.Errorf("a plan has at most %d steps", MaxSteps)
	ErrOnlyEnd = plainly.New("an end can only go with the branch that leads to it")
)

// Add is Insert of a new step of the kind with that word, with the settings that
// are usual behind step from. Without such a step it is ErrNoStep.
func (p *Plan) Add(word string, from StepID, exit Exit, also ...Exit) (StepID, error) {
	s := New(word)
	if s == nil {
		return 0, ErrNoKind
	}
	before := p.Step(from)
	if from == 0 && p.Step(p.Start) == nil {
		return 0, ErrNoStep
	}
	if x, ok := s.(interface{ follow(Step) }); ok && before != nil {
		x.follow(before)
	}
	return p.Insert(s, from, exit, also...)
}

// Insert puts s on the stream that leaves step from by exit (or, with from 0,
// before the start) and returns its new id. Its main exit leads where the
// stream led; each other exit leads to an end of its own. A step without exits
// closes the stream: what only that stream reached is gone. Exits that lead
// where the first one does, and are named too, go along.
func (p *Plan) Insert(s Step, from StepID, exit Exit, also ...Exit) (StepID, error) {
	if len(p.Steps)+len(s.Exits()) >= MaxSteps {
		return 0, ErrTooMany
	}
	target := p.Start
	if from != 0 {
		f := p.Step(from)
		if f == nil {
			return 0, ErrNoStep
		}
		var ok bool
		if target, ok = f.About().To[exit]; !ok {
			return 0, ErrNoExit
		}
		defer func(id *StepID) {
			for _, e := range append(also, exit) {
				if f.About().To[e] == target {
					f.About().To[e] = *id
				}
			}
			p.prune()
		}(&s.About().ID)
	} else {
		defer func(id *StepID) { p.Start = *id; p.prune() }(&s.About().ID)
	}
	c := s.About()
	p.LastID++
	c.ID = p.LastID
	c.To = nil
	if len(s.Exits()) > 0 {
		c.To = map[Exit]StepID{}
	}
	p.Steps = append(p.Steps, s)
	for i, e := range s.Exits() {
		if i == 0 {
			c.To[e] = target
			continue
		}
		if with, ok := s.Kind().With[e]; ok {
			c.To[e] = c.To[with]
			continue
		}
		p.LastID++
		end := kindEnd.make()
		end.About().ID = p.LastID
		p.Steps = append(p.Steps, end)
		c.To[e] = p.LastID
	}
	return c.ID, nil
}

// Remove takes a step out: what led to it leads to where its main exit led,
// and what only its other exits reached is gone. Removing a step without
// exits, such as a handing over, leaves a plain end in its place; a plain end
// cannot be removed.
func (p *Plan) Remove(id StepID) error {
	s := p.Step(id)
	if s == nil {
		return ErrNoStep
	}
	var target StepID
	if exits := s.Exits(); len(exits) > 0 {
		target = s.About().To[exits[0]]
	} else if s.Kind() == kindEnd {
		return ErrOnlyEnd
	} else {
		p.LastID++
		target = p.LastID
		end := kindEnd.make()
		end.About().ID = target
		p.Steps = append(p.Steps, end)
	}
	if p.Start == id {
		p.Start = target
	}
	for _, o := range p.Steps {
		for e, to := range o.About().To {
			if to == id {
				o.About().To[e] = target
			}
		}
	}
	p.prune()
	return nil
}

// prune drops the steps that the start does not reach.
func (p *Plan) prune() {
	seen := map[StepID]bool{}
	p.walk(p.Start, seen)
	p.Steps = slices.DeleteFunc(p.Steps, func(s Step) bool { return !seen[s.About().ID] })
}

func (p *Plan) walk(id StepID, seen map[StepID]bool) {
	s := p.Step(id)
	if s == nil || seen[id] {
		return
	}
	seen[id] = true
	for _, to := range s.About().To {
		p.walk(to, seen)
	}
}

// order returns the ids with every step after all that lead to it, and false
// where the plan has a circle.
func (p *Plan) order() ([]StepID, bool) {
	const going, gone = 1, 2
	state := map[StepID]int{}
	var out []StepID
	ok := true
	var visit func(id StepID)
	visit = func(id StepID) {
		s := p.Step(id)
		switch {
		case s == nil || state[id] == gone:
			return
		case state[id] == going:
			ok = false
			return
		}
		state[id] = going
		exits := s.Exits()
		for i := len(exits) - 1; i >= 0; i-- {
			visit(s.About().To[exits[i]])
		}
		state[id] = gone
		out = append(out, id)
	}
	visit(p.Start)
	slices.Reverse(out)
	return out, ok
}

// Days gives each step its place on the time axis: the day, counted from
// entry, on which somebody who waits everything out comes to it and, for a
// touch, gets it.
func (p *Plan) Days() map[StepID]float64 {
	days := map[StepID]float64{}
	reached := map[StepID]float64{}
	order, _ := p.order()
	for _, id := range order {
		s := p.Step(id)
		before, after := s.takes()
		days[id] = reached[id] + before
		for _, to := range s.About().To {
			reached[to] = max(reached[to], days[id]+after)
		}
	}
	return days
}

// Problem is something that keeps a plan from being launched.
type Problem struct {
	Step StepID // 0: the plan as a whole
	Text string
}

// Check lists what keeps the plan from being launched, in the order of the
// steps; none where it can be.
func (p *Plan) Check() []Problem {
	var out []Problem
	order, ok := p.order()
	if len(order) == 0 {
		return []Problem{{0, "the plan has no step"}}
	}
	if !ok {
		out = append(out, Problem{0, "the plan leads back to itself"})
	}
	if err := p.Hours.Check(); err != nil {
		out = append(out, Problem{0, err.Error()})
	}
	if err := p.LongestStay.Check(); err != nil {
		out = append(out, Problem{0, "longest stay: " + err.Error()})
	}
	if err := p.Rest.Check(); err != nil {
		out = append(out, Problem{0, err.Error()})
	}
	for _, r := range p.Stay {
		if !slices.Contains(MayStay(), r) {
			out = append(out, Problem{0, fmt.Sprintf("everybody leaves who %s: that cannot be switched off", r)})
		}
	}
	if _, asks := p.Events(); asks != 0 && p.Event == 0 {
		out = append(out, Problem{asks, "the event is still to be made or chosen"})
	}
	if p.LeaveIf != nil {
		if err := p.LeaveIf.Check(nil); err != nil {
			out = append(out, Problem{0, "its own leave rule: " + err.Error()})
		}
	}
	touches, grounded := 0, p.Ground.Named()
	for _, id := range order {
		s := p.Step(id)
		report := func(text string) { out = append(out, Problem{id, text}) }
		for _, e := range s.Exits() {
			if p.Step(s.About().To[e]) == nil {
				report(fmt.Sprintf("the exit “%s” leads nowhere", e))
			}
		}
		if _, ok := s.(timed); ok {
			touches++
		}
		if t, ok := s.(reaching); ok {
			if _, g := p.On(t); !g.Named() && !grounded {
				out = append(out, Problem{0, "say on what ground it reaches people: what they agreed to, or another"})
				grounded = true
			}
		}
		s.check(p, report)
	}
	if touches == 0 {
		out = append(out, Problem{0, "nothing is done for anybody: the plan has no step yet that does something"})
	}
	return out
}

// before reports whether step a comes before step b on every way or on some.
func (p *Plan) leads(a, b StepID) bool {
	if a == b {
		return false
	}
	seen := map[StepID]bool{}
	p.walk(a, seen)
	return seen[b]
}

// Touches lists the steps of a kind, or with "" all that reach the person, that come
// before step id: what a watch at id can wait for an answer to.
func (p *Plan) Touches(id StepID, word string) []Step {
	var out []Step
	for _, s := range p.Steps {
		if _, touches := s.(reaching); (s.Kind().Word == word || word == "" && touches) && p.leads(s.About().ID, id) {
			out = append(out, s)
		}
	}
	sort.Slice(out, func(i, j int) bool { return out[i].About().ID < out[j].About().ID })
	return out
}
