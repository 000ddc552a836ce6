package sequence

import (
	"slices"

	"ombak/internal/core/act"
	"ombak/internal/core/rule"
)

// Kind describes a kind of step: all that is the same for each step of it.
type Kind struct {
	Word string // "email", as it is stored and said
	Does string // what it is for, in one line
	Icon string // of the icons that ship
	Key  string // that an editor offers it by
	Sort Group
	Look Look
	// With says which exit of a new step leads where another one does, instead
	// of to an end of its own.
	With map[Exit]Exit
	// Line is what a map counts under a running step; none: what Says says.
	Line []Figure
	// Results are counted beside a step that reaches people.
	Results []Figure
	make    func() Step
}

// Group is what kinds of step an editor offers together.
type Group string

// The groups, in the order in which they are offered.
const (
	ReachOut Group = "Reach out"
	Parting  Group = "Wait and part"
	Doing    Group = "Do"
	Leaving  Group = "End the way"
)

// Look is how a map shows a kind of step and the streams that lead to it.
type Look string

// The looks. Handing is for what gives people to sales, Closing for what is over.
const (
	Plain   Look = ""
	Handing Look = "hand"
	Closing Look = "quiet"
)

// Count is what is counted of the people at a step.
type Count string

// What there is to count. A count of a touch is one of touches, each person once.
const (
	Here     Count = "here"  // on the way, at the step
	Ended    Count = "ended" // whose way ended there as planned
	Sent     Count = "sent"
	Opened   Count = "opened"
	Clicked  Count = "clicked"
	Replied  Count = "answered"
	InDoubt  Count = "trouble" // held or stopped
	OnDesk   Count = "desk"
	WorkDone Count = "done"
	NotDone  Count = "missed"
)

// Figure is a count with its word: "412 sent", or as a share "31 % opened".
type Figure struct {
	Count Count
	Of    Count // shown as a share of that count; empty: as a number
	Word  string
	Any   bool // shown only where there are any
}

var (
	onTheWay = []Figure{{Count: Here, Word: "on the way"}}
	gone     = []Figure{{Count: Ended}}
	mailed   = []Figure{{Count: Sent, Word: "sent"}, {Count: Opened, Of: Sent, Word: "opened"},
		{Count: InDoubt, Word: "held", Any: true}}
	mailResults = []Figure{{Count: Sent, Word: "sent"}, {Count: Opened, Of: Sent, Word: "opened"},
		{Count: Clicked, Of: Sent, Word: "clicked"}, {Count: Replied, Of: Sent, Word: "answered"},
		{Count: InDoubt, Word: "held", Any: true}}
	worked      = []Figure{{Count: WorkDone, Word: "made"}, {Count: OnDesk, Word: "waiting"}}
	workResults = []Figure{{Count: OnDesk, Word: "on the desk"}, {Count: WorkDone, Word: "made"},
		{Count: NotDone, Word: "missed"}}
)

// Names names what steps refer to by number. The zero Names knows none.
type Names struct {
	Rules    *rule.Catalogue
	Messages map[int64]string
	Acts     act.Names
}

func (n Names) user(id int64) string {
	if n.Acts == nil {
		return "a user"
	}
	return n.Acts.User(id)
}

// whose says whom something is for: a team, a user, else the owner.
func (n Names) whose(user, team int64) string {
	switch {
	case team != 0 && n.Acts == nil:
		return "a team"
	case team != 0:
		return "the team " + n.Acts.Team(team)
	case user != 0:
		return n.user(user)
	}
	return "the owner"
}

func (n Names) purpose(id int64) string {
	if n.Acts == nil {
		return "a purpose"
	}
	return n.Acts.Purpose(id)
}

func (n Names) sequence(id int64) string {
	if n.Acts == nil || id == 0 {
		return ""
	}
	return n.Acts.Sequence(id)
}

// Setting is a setting of a step in words.
type Setting struct{ Name, Is string }

// Part is something a step is made of and cannot go without.
type Part struct {
	Step StepID
	What PartKind
	ID   int64 // 0: it is still missing
}

// PartKind is what a part is.
type PartKind string

// The kinds of part there are.
const (
	MessagePart  PartKind = "message"
	SequencePart PartKind = "sequence"
	EventPart    PartKind = "event"
	WordsPart    PartKind = "words" // a guide, or what is to be done or said: 1 where they are there
)

func words(s StepID, text string) []Part {
	p := Part{Step: s, What: WordsPart}
	if text != "" {
		p.ID = 1
	}
	return []Part{p}
}

// Parts lists what the steps of the plan are made of, in the order of the steps.
func (p *Plan) Parts() []Part {
	var out []Part
	for _, s := range p.Steps {
		if x, ok := s.(interface{ parts() []Part }); ok {
			out = append(out, x.parts()...)
		}
	}
	if _, asks := p.Events(); asks != 0 {
		out = append(out, Part{Step: asks, What: EventPart, ID: p.Event})
	}
	return out
}

var kinds []*Kind // filled by Register, sorted by the order given

// Register adds a kind of step at a place in the order in which an editor offers
// them, made by its make. It is called while the program starts.
func Register(order int, k *Kind, make func() Step) *Kind {
	k.make = make
	for len(kinds) <= order {
		kinds = append(kinds, nil)
	}
	kinds[order] = k
	return k
}

// Kinds lists the kinds of step in the order an editor offers them.
func Kinds() []*Kind {
	return slices.DeleteFunc(slices.Clone(kinds), func(k *Kind) bool { return k == nil })
}

// New makes a step of the kind with that word, with its usual settings, or
// nil where there is no such kind.
func New(word string) Step {
	for _, k := range kinds {
		if k != nil && k.Word == word {
			return k.make()
		}
	}
	return nil
}
