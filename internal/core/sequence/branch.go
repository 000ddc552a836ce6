package sequence

import (
	"encoding/json"
	"slices"

	"ombak/internal/core/plainly"
)

// Branch is steps that were copied or cut, to be put in elsewhere: one, or one with all
// that it leads to. It can be kept as JSON.
type Branch struct {
	Plan  *Plan `json:"plan"`            // whose start is the step, and whose ends close it
	Whole bool  `json:"whole,omitempty"` // with all that it leads to
	From  int64 `json:"from,omitempty"`  // the sequence that it is of; 0: another workspace's
}

// Errors of branches.
var (
	ErrOwnBranch = plainly.New("a branch cannot be put into itself")
	ErrCircle    = plainly.New("that would lead back to a step that comes before it")
	ErrNoBranch  = plainly.New("copy or cut a step first")
)

// Title is the title of its first step.
func (b *Branch) Title() string {
	if s := b.Plan.Step(b.Plan.Start); s != nil {
		return s.About().Title
	}
	return ""
}

// Size is how many steps it has that are no plain ends.
func (b *Branch) Size() (n int) {
	for _, s := range b.Plan.Steps {
		if s.Kind() != kindEnd {
			n++
		}
	}
	return max(n, 1)
}

// Copy copies a step, with all that it leads to where whole is set. Alone, each of its
// exits leads to an end.
func (p *Plan) Copy(id StepID, whole bool) (*Branch, error) {
	if p.Step(id) == nil {
		return nil, ErrNoStep
	}
	c := p.Clone()
	c.Start = id
	if !whole {
		s := c.Step(id)
		ends := map[StepID]StepID{} // exits that met still meet
		for _, e := range s.Exits() {
			to := s.About().To[e]
			if _, ok := c.Step(to).(*End); ok {
				continue
			}
			if ends[to] == 0 {
				ends[to] = c.addEnd()
			}
			s.About().To[e] = ends[to]
		}
	}
	c.prune()
	return &Branch{Plan: c, Whole: whole}, nil
}

// addEnd adds an end that nothing leads to yet.
func (p *Plan) addEnd() StepID {
	p.LastID++
	end := kindEnd.make()
	end.About().ID = p.LastID
	p.Steps = append(p.Steps, end)
	return p.LastID
}

// Cut takes a step out, as Remove does; with all that it leads to where whole is set:
// what led to it leads to an end then. What other branches lead to as well stays.
func (p *Plan) Cut(id StepID, whole bool) error {
	if !whole {
		return p.Remove(id)
	}
	s := p.Step(id)
	switch {
	case s == nil:
		return ErrNoStep
	case s.Kind() == kindEnd:
		return ErrOnlyEnd
	}
	end := p.addEnd()
	if p.Start == id {
		p.Start = end
	}
	for _, o := range p.Steps {
		for e, to := range o.About().To {
			if to == id {
				o.About().To[e] = end
			}
		}
	}
	p.prune()
	return nil
}

// Put puts a branch on the stream that leaves step from by some exits (from 0: before the
// start) and answers the id of its first step. The stream goes on where the main way of
// the branch ends, if that is at a plain end. Steps keep their ids where those are free
// and the branch is of the same sequence: whoever is on them stays on them.
func (p *Plan) Put(b *Branch, from StepID, exits []Exit, same bool) (StepID, error) {
	if len(p.Steps)+len(b.Plan.Steps) > MaxSteps {
		return 0, ErrTooMany
	}
	target, lead, err := p.stream(from, exits)
	if err != nil {
		return 0, err
	}
	c := b.Plan.Clone()
	ids := map[StepID]StepID{}
	given := p.LastID // ids up to it were given to steps of this sequence
	for _, s := range c.Steps {
		id := s.About().ID
		if same && p.Step(id) == nil && id <= given {
			ids[id] = id
			continue
		}
		p.LastID++
		ids[id] = p.LastID
	}
	last := c.mainEnd()
	for _, s := range c.Steps {
		a := s.About()
		if a.ID == last {
			continue // the stream goes on in its place
		}
		a.ID = ids[a.ID]
		for e, to := range a.To {
			if a.To[e] = ids[to]; to == last {
				a.To[e] = target
			}
		}
		if x, ok := s.(interface {
			refer(func(StepID) StepID)
		}); ok {
			x.refer(func(id StepID) StepID {
				if to, there := ids[id]; there {
					return to
				}
				if same && p.Step(id) != nil {
					return id
				}
				return 0
			})
		}
		p.Steps = append(p.Steps, s)
	}
	first := ids[c.Start]
	if c.Start == last { // an end by itself
		return target, nil
	}
	lead(first)
	p.prune()
	return first, nil
}

// mainEnd is the plain end that the main exits of a branch lead to; 0: it ends otherwise.
func (p *Plan) mainEnd() StepID {
	id := p.Start
	for range p.Steps {
		s := p.Step(id)
		if s == nil {
			return 0
		}
		exits := s.Exits()
		if len(exits) == 0 {
			if s.Kind() == kindEnd {
				return id
			}
			return 0
		}
		id = s.About().To[exits[0]]
	}
	return 0
}

// stream is where the stream that leaves a step by some exits leads, and what has it lead
// elsewhere. From 0 is the way in.
func (p *Plan) stream(from StepID, exits []Exit) (target StepID, lead func(StepID), err error) {
	if from == 0 {
		if p.Step(p.Start) == nil {
			return 0, nil, ErrNoStep
		}
		return p.Start, func(to StepID) { p.Start = to }, nil
	}
	s := p.Step(from)
	if s == nil {
		return 0, nil, ErrNoStep
	}
	if len(exits) == 0 {
		return 0, nil, ErrNoExit
	}
	target, ok := s.About().To[exits[0]]
	if !ok {
		return 0, nil, ErrNoExit
	}
	return target, func(to StepID) {
		for _, e := range exits {
			if s.About().To[e] == target {
				s.About().To[e] = to
			}
		}
	}, nil
}

// refer has a watch watch the email that has another id now.
func (s *Watch) refer(to func(StepID) StepID) { s.Of = to(s.Of) }

// refer has an email answer in the thread of the email that has another id now.
func (s *Email) refer(to func(StepID) StepID) { s.Thread = to(s.Thread) }

// PutBranch puts in a branch that was copied or cut. Same says that it is of the same
// sequence.
type PutBranch struct {
	Branch *Branch
	From   StepID
	Exits  []Exit
	Same   bool
}

// Apply puts it in.
func (x PutBranch) Apply(p *Plan) (string, StepID, error) {
	if x.Branch == nil {
		return "", 0, ErrNoBranch
	}
	id, err := p.Put(x.Branch, x.From, x.Exits, x.Same)
	return "put in “" + x.Branch.Title() + "”", id, err
}

// CutBranch takes a step out, with all that it leads to where Whole is set.
type CutBranch struct {
	ID    StepID
	Whole bool
}

// Apply takes it out.
func (x CutBranch) Apply(p *Plan) (string, StepID, error) {
	s := p.Step(x.ID)
	if s == nil {
		return "", 0, ErrNoStep
	}
	return "cut “" + s.About().Title + "”", 0, p.Cut(x.ID, x.Whole)
}

// MoveBranch moves a step, with all that it leads to where Whole is set, to another stream.
type MoveBranch struct {
	ID    StepID
	Whole bool
	From  StepID
	Exits []Exit
}

// Apply moves it.
func (x MoveBranch) Apply(p *Plan) (string, StepID, error) {
	s := p.Step(x.ID)
	if s == nil {
		return "", 0, ErrNoStep
	}
	if x.From == x.ID || x.Whole && p.leads(x.ID, x.From) {
		return "", 0, ErrOwnBranch
	}
	b, err := p.Copy(x.ID, x.Whole)
	if err != nil {
		return "", 0, err
	}
	if err := p.Cut(x.ID, x.Whole); err != nil {
		return "", 0, err
	}
	id, err := p.Put(b, x.From, x.Exits, true)
	return "move “" + s.About().Title + "”", id, err
}

// JoinStream leads the stream that leaves From by Exits to a step that is there, so that
// streams meet; To 0 gives it an end of its own.
type JoinStream struct {
	From  StepID
	Exits []Exit
	To    StepID
}

// Apply leads it there. What only it reached before is gone.
func (x JoinStream) Apply(p *Plan) (string, StepID, error) {
	_, lead, err := p.stream(x.From, x.Exits)
	if err != nil {
		return "", 0, err
	}
	to := x.To
	if to == 0 {
		to = p.addEnd()
	}
	s := p.Step(to)
	switch {
	case s == nil:
		return "", 0, ErrNoStep
	case to == x.From || p.leads(to, x.From):
		return "", 0, ErrCircle
	}
	lead(to)
	p.prune()
	return "lead on to “" + s.About().Title + "”", to, nil
}

// MaxBranch bounds a branch that is kept, in bytes.
const MaxBranch = 256 << 10

// Keep is the branch as JSON.
func (b *Branch) Keep() ([]byte, error) {
	data, err := json.Marshal(b)
	if err == nil && len(data) > MaxBranch {
		err = plainly.Errorf("these steps are too much to copy: more than %d kB", MaxBranch>>10)
	}
	return data, err
}

// ReadBranch reads what Keep has written.
func ReadBranch(data []byte) (*Branch, error) {
	var b Branch
	if err := json.Unmarshal(data, &b); err != nil {
		return nil, err
	}
	if b.Plan == nil || slices.Contains(b.Plan.Steps, nil) {
		return nil, ErrNoBranch
	}
	if err := b.Plan.whole(); err != nil {
		return nil, err
	}
	return &b, nil
}
