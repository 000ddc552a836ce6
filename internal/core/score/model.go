package score

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"ombak/internal/core/plainly"
	"ombak/internal/core/rule"
	"ombak/internal/core/signal"
)

// Often says how often a rule may give its points.
type Often string

// How often. While gives the points once, exactly as long as at least N
// matching signals lie within the last Window days.
const (
	Always Often = ""
	First  Often = "first"
	PerDay Often = "per day"
	InAll  Often = "in all"
	While  Often = "while"
)

// Rule gives points for a signal, or, where its pattern has no kind, for as long as its condition holds.
type Rule struct {
	ID     int64          `json:"id"`              // stays the same from version to version
	Group  string         `json:"group,omitempty"` // what people call those it stands with
	On     signal.Pattern `json:"on"`
	Points int            `json:"points"`
	Often  Often          `json:"often,omitempty"`
	N      int            `json:"n,omitempty"`      // of PerDay, InAll and While
	Window int            `json:"window,omitempty"` // days, of While

	// Lasts is for how many days the points count: a contribution at a counts in [a, a+Lasts·24h). 0: for ever.
	Lasts int `json:"lasts,omitempty"`
	Half  int `json:"half,omitempty"` // days after which the points are worth half; 0: they keep their worth

	If   rule.Rule `json:"if,omitzero"`    // only while this holds
	Wipe bool      `json:"wipe,omitempty"` // from the signal on, all is counted as if nothing before it had happened
}

// Model is a set of rules and what is made of their sum, and the fit beside it.
type Model struct {
	Name    string         `json:"name"`
	Floor   int            `json:"floor,omitempty"`
	Ceiling int            `json:"ceiling,omitempty"`  // 0: none
	Line    int            `json:"line,omitempty"`     // the ready line: an engagement of at least this; 0: none
	FitLine int            `json:"fit_line,omitempty"` // and a fit of at least this; 0: any
	Margin  int            `json:"margin,omitempty"`   // a crossing fires again after the score was below Line − Margin
	CoolOff int            `json:"cool_off,omitempty"` // days in which nobody who was sent back crosses again
	Zone    *time.Location `json:"-"`
	Rules   []Rule         `json:"rules"`
	LastID  int64          `json:"last_id,omitempty"` // the highest id that a rule has or had

	Bands    []rule.Band `json:"bands,omitempty"` // named ranges of the score
	Fit      rule.Fit    `json:"fit,omitempty"`
	FitBands []rule.Band `json:"fit_bands,omitempty"`

	Follows []Follow `json:"follows,omitempty"` // what is done when somebody comes to a level
}

// MaxRules bounds a model; the others bound what its rules and the model say.
const (
	MaxRules   = 100
	maxPoints  = 1000
	maxDays    = 3660
	maxTimes   = 1000
	maxFigure  = 100_000
	maxCoolOff = 366
	maxWords   = 80

	// MaxName is how long the name of a model may be, in bytes.
	MaxName = maxWords
)

// OfRecord reports whether the rule gives its points for what is on the record, and for nothing that they did.
func (r *Rule) OfRecord() bool { return r.On.Kind == 0 }

// Check reports what is wrong with r, or nil. The catalogue is what there is to ask for; nil: the fields of every
// record alone.
func (r *Rule) Check(cat *rule.Catalogue) error {
	switch {
	case r.OfRecord() && (r.Often != Always || r.Lasts > 0 || r.Half > 0 || r.Wipe):
		return plainly.New("points for what is on the record count exactly as long as it is so")
	case r.OfRecord() && !r.If.Asks():
		return plainly.New("a score rule needs something they did, or a condition on the record")
	case !r.OfRecord() && !r.On.Kind.Known():
		return plainly.New("a score rule needs a kind of signal")
	case r.Points < -maxPoints || r.Points > maxPoints:
		return plainly.New("points are a whole number from −1000 to 1000")
	case r.Points == 0 && !r.Wipe:
		return plainly.New("a rule that gives no points does nothing")
	case outside(r.Lasts, maxDays) || outside(r.Half, maxDays) || outside(r.Window, maxDays):
		return plainly.New("days are a whole number from 0 to 3660")
	case r.Lasts > 0 && r.Half > 0:
		return plainly.New("points last for some days, or halve every some days, and not both")
	case r.Often == While && (r.N < 1 || r.Window < 1):
		return plainly.New("while at least … within … needs a number of signals and of days")
	case r.Often == While && (r.Lasts > 0 || r.Half > 0):
		return plainly.New("while at least … within … says itself how long its points count")
	case (r.Often == PerDay || r.Often == InAll) && r.N < 1:
		return plainly.New("at most … needs a number of 1 or more")
	case outside(r.N, maxTimes):
		return plainly.New("how many times is a whole number of at most 1000")
	case len(r.Group) > maxWords:
		return plainly.New("the name of a group has at most 80 letters")
	case asksScore(&r.If):
		return plainly.New("a score rule cannot ask for the score")
	}
	switch r.Often {
	case Always, First, PerDay, InAll, While:
	default:
		return plainly.Errorf("unknown frequency %q", r.Often)
	}
	return r.If.Check(cat)
}

func outside(n, most int) bool { return n < 0 || n > most }

func asksScore(r *rule.Rule) (yes bool) {
	r.Each(func(c *rule.Condition) { yes = yes || c.Score || c.About == rule.InBand })
	return yes
}

// Check reports the first thing that is wrong with a model, or nil.
func (m *Model) Check(cat *rule.Catalogue) error {
	seen := map[int64]bool{}
	switch {
	case strings.TrimSpace(m.Name) == "" || len(m.Name) > maxWords:
		return plainly.New("a model has a name, of at most 80 letters")
	case len(m.Rules) > MaxRules:
		return plainly.Errorf("a model has at most %d rules", MaxRules)
	case m.Floor < -maxFigure || m.Floor > maxFigure || outside(m.Ceiling, maxFigure):
		return plainly.New("floor and ceiling are whole numbers of at most 100,000")
	case m.Ceiling > 0 && m.Ceiling <= m.Floor:
		return plainly.New("the ceiling is higher than the floor")
	case outside(m.Line, maxFigure):
		return plainly.New("the ready line is a whole number of at most 100,000")
	case m.Line > 0 && (m.Line <= m.Floor || m.Ceiling > 0 && m.Line > m.Ceiling):
		return plainly.New("the ready line lies above the floor, and not above the ceiling")
	case outside(m.FitLine, 100):
		return plainly.New("the fit of the ready line is a whole number from 0 to 100")
	case m.FitLine > 0 && len(m.Fit) == 0:
		return plainly.New("the ready line asks for a fit, and nothing makes a fit yet")
	case outside(m.Margin, maxFigure):
		return plainly.New("the margin is a whole number of at most 100,000")
	case outside(m.CoolOff, maxCoolOff):
		return plainly.New("the cool-off is 0 to 366 days")
	}
	for i := range m.Rules {
		r := &m.Rules[i]
		if err := r.Check(cat); err != nil {
			return &RuleError{i, err}
		}
		if r.ID <= 0 || r.ID > m.LastID || r.ID >= rule.MostRules || seen[r.ID] {
			return &RuleError{i, fmt.Errorf("the rule has no number of its own")}
		}
		seen[r.ID] = true
	}
	if len(m.Follows) > MaxFollows {
		return plainly.Errorf("something follows from at most %d levels", MaxFollows)
	}
	for i := range m.Follows {
		if err := m.Follows[i].Check(m); err != nil {
			return err
		}
	}
	for _, b := range []*[]rule.Band{&m.Bands, &m.FitBands} {
		if _, err := rule.Ranges(*b); err != nil {
			return err
		}
	}
	return m.Fit.Check(cat)
}

// RuleError tells of which rule of a model something is wrong, from 0.
type RuleError struct {
	Rule int
	Err  error
}

// Error says it with the place of the rule, from 1.
func (e *RuleError) Error() string { return fmt.Sprintf("rule %d: %v", e.Rule+1, e.Err) }

// Unwrap is what is wrong.
func (e *RuleError) Unwrap() error { return e.Err }

// Tidy numbers the rules that have no id yet, so that each has one that no other has or had, and puts the bands in
// order.
func (m *Model) Tidy() error {
	for i := range m.Rules {
		if m.Rules[i].ID < rule.MostRules {
			m.LastID = max(m.LastID, m.Rules[i].ID)
		}
	}
	taken := map[int64]bool{}
	for i := range m.Rules {
		r := &m.Rules[i]
		r.Group = strings.TrimSpace(r.Group)
		if r.ID <= 0 || r.ID >= rule.MostRules || taken[r.ID] {
			m.LastID++
			r.ID = m.LastID
		}
		taken[r.ID] = true
	}
	var err error
	if m.Bands, err = rule.Ranges(m.Bands); err != nil {
		return err
	}
	m.FitBands, err = rule.Ranges(m.FitBands)
	return err
}

// Clone is a copy that shares nothing that is changed.
func (m *Model) Clone() Model {
	c := *m
	c.Rules, c.Fit = slices.Clone(m.Rules), slices.Clone(m.Fit)
	c.Bands, c.FitBands = slices.Clone(m.Bands), slices.Clone(m.FitBands)
	c.Follows = slices.Clone(m.Follows)
	return c
}

// AsksRecord reports whether the score or the ready line asks for anything of the record.
func (m *Model) AsksRecord() bool {
	return m.FitLine > 0 || slices.ContainsFunc(m.Rules, func(r Rule) bool { return r.If.Asks() })
}

// RuleOf finds a rule by its id; −1: it has none of it.
func (m *Model) RuleOf(id int64) int {
	return slices.IndexFunc(m.Rules, func(r Rule) bool { return r.ID == id })
}

// Stand is how somebody stands by a model at an instant.
type Stand struct {
	Score float64 // as it is shown
	Ready bool    // at the ready line or above it, in fit too, and reachable
}

// Stands is how somebody stands whose ledger comes to a sum.
func (m *Model) Stands(sum float64, fit int, reachable bool) Stand {
	s := m.Shown(sum)
	return Stand{s, m.Line > 0 && s >= float64(m.Line) && m.MayCross(fit, reachable)}
}

// MayCross reports whether somebody with that fit can be ready at all, whatever they do.
func (m *Model) MayCross(fit int, reachable bool) bool { return reachable && fit >= m.FitLine }

// BandOf is in which of some bands a score lies; −1: in none, as one below zero.
func BandOf(bands []rule.Band, v float64) int {
	for i := len(bands) - 1; i >= 0; i-- {
		if v >= float64(bands[i].From) {
			return i
		}
	}
	return -1
}
