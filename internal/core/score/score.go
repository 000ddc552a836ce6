// Package score turns what people do into a figure that can be explained: a
// model of rules, the ledger of points they gave, and the ready line.
//
// The score at an instant depends on the signals up to it, on the record and
// on that instant alone; not on when anybody looked. So a score can be asked
// for any past instant, and keeping it up to date as signals come gives the
// same figure as counting everything again.
//
// Instants are whole microseconds, as the database keeps them.
package score

import (
	"errors"
	"fmt"
	"math"
	"time"

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

// Rule gives points for a signal.
type Rule struct {
	ID     int64
	On     signal.Pattern
	Points int
	Often  Often
	N      int // of PerDay, InAll and While
	Window int // days, of While

	Lasts int // days the points count; 0: for ever. A contribution at a counts in [a, a+Lasts·24h)
	Half  int // days after which the points are worth half; 0: they keep their worth

	If   rule.Rule // only while this holds of the record
	Wipe bool      // contributions made before the signal stop counting
}

// Model is a set of rules and what is made of their sum.
type Model struct {
	Name    string
	Floor   int
	Ceiling int // 0: none
	Line    int // the ready line: an engagement of at least this
	Margin  int // a crossing fires again after the score was below Line − Margin
	Zone    *time.Location
	Rules   []Rule
}

// Check reports what is wrong with r, or nil.
func (r *Rule) Check() error {
	switch {
	case !r.On.Kind.Known():
		return errors.New("a score rule needs a kind of signal")
	case r.Points < -1000 || r.Points > 1000:
		return errors.New("points are a whole number from −1000 to 1000")
	case r.Points == 0 && !r.Wipe:
		return errors.New("a rule that gives no points does nothing")
	case r.Lasts < 0 || r.Lasts > 3660 || r.Half < 0 || r.Half > 3660 || r.Window < 0 || r.Window > 3660:
		return errors.New("days are a whole number from 0 to 3660")
	case r.Often == While && (r.N < 1 || r.Window < 1):
		return errors.New("while at least … within … needs a number of signals and of days")
	case (r.Often == PerDay || r.Often == InAll) && r.N < 1:
		return errors.New("at most … needs a number of 1 or more")
	case asksScore(&r.If):
		return errors.New("a score rule cannot ask for the score")
	}
	switch r.Often {
	case Always, First, PerDay, InAll, While:
	default:
		return fmt.Errorf("unknown frequency %q", r.Often)
	}
	return r.If.Check(nil)
}

func asksScore(r *rule.Rule) (yes bool) {
	r.Each(func(c *rule.Condition) { yes = yes || c.Score || c.About == rule.InBand })
	return yes
}

// Entry is one line of the ledger: points that a rule gave for a signal.
type Entry struct {
	Rule   int // index into Model.Rules
	Signal int // index into the signals; of While, the one that completed it
	At     time.Time
	Until  time.Time // first instant at which it no longer counts; zero: never ends
	Points int
	Half   int // half-life in days, 0: none
}

// Worth is what e adds to the score at t.
func (e *Entry) Worth(t time.Time) float64 {
	if t.Before(e.At) || (!e.Until.IsZero() && !t.Before(e.Until)) {
		return 0
	}
	if e.Half == 0 {
		return float64(e.Points)
	}
	age := t.Sub(e.At).Hours() / 24
	return float64(e.Points) * math.Exp2(-age/float64(e.Half))
}

// Ledger appends to dst the entries that the sorted signals up to at give, in
// the order of their instants within each rule, and returns it. Entries hold
// for every instant not after at. Facts may be nil where no rule has an If.
func (m *Model) Ledger(dst []Entry, signals []signal.Signal, facts rule.Facts, at time.Time) []Entry {
	start := len(dst)
	var wiped time.Time
	for i := range m.Rules {
		r := &m.Rules[i]
		if r.If.Asks() && (facts == nil || !r.If.Holds(facts, at)) {
			continue
		}
		if r.Wipe {
			for j := range signals {
				if s := &signals[j]; !s.At.After(at) && r.On.Matches(s) && s.At.After(wiped) {
					wiped = s.At
				}
			}
		}
		if r.Points == 0 {
			continue
		}
		if r.Often == While {
			dst = m.while(dst, i, signals, at)
		} else {
			dst = m.each(dst, i, signals, at)
		}
	}
	if !wiped.IsZero() {
		for i := start; i < len(dst); i++ {
			if e := &dst[i]; e.At.Before(wiped) && (e.Until.IsZero() || e.Until.After(wiped)) {
				e.Until = wiped
			}
		}
	}
	return dst
}

// each adds an entry for every signal that the rule's frequency lets count.
func (m *Model) each(dst []Entry, i int, signals []signal.Signal, at time.Time) []Entry {
	r := &m.Rules[i]
	given, day, onDay := 0, 0, 0
	for j := range signals {
		s := &signals[j]
		if s.At.After(at) {
			break
		}
		if !r.On.Matches(s) {
			continue
		}
		switch r.Often {
		case First:
			if given > 0 {
				return dst
			}
		case InAll:
			if given >= r.N {
				return dst
			}
		case PerDay:
			if d := m.day(s.At); d != day {
				day, onDay = d, 0
			}
			if onDay++; onDay > r.N {
				continue
			}
		}
		given++
		e := Entry{Rule: i, Signal: j, At: s.At, Points: r.Points, Half: r.Half}
		if r.Lasts > 0 {
			e.Until = s.At.Add(time.Duration(r.Lasts) * 24 * time.Hour)
		}
		dst = append(dst, e)
	}
	return dst
}

// day numbers the dates of the model's zone; a date is one number whatever its length.
func (m *Model) day(t time.Time) int {
	if m.Zone != nil {
		t = t.In(m.Zone)
	} else {
		t = t.UTC()
	}
	return t.Year()*1000 + t.YearDay()
}

// while adds an entry for each stretch in which at least N matching signals
// lie within the last Window days. "Within" includes its far end, so a stretch
// ends one microsecond after the oldest needed signal is Window days old.
func (m *Model) while(dst []Entry, i int, signals []signal.Signal, at time.Time) []Entry {
	r := &m.Rules[i]
	begun := len(dst)
	var seen []int // matching signals, the last N of them
	for j := range signals {
		s := &signals[j]
		if s.At.After(at) {
			break
		}
		if !r.On.Matches(s) {
			continue
		}
		if seen = append(seen, j); len(seen) > r.N {
			seen = seen[1:]
		}
		if len(seen) < r.N {
			continue
		}
		until := signals[seen[0]].At.Add(time.Duration(r.Window)*24*time.Hour + time.Microsecond)
		if !until.After(s.At) {
			continue
		}
		if last := len(dst) - 1; last >= begun && !dst[last].Until.Before(s.At) {
			if until.After(dst[last].Until) {
				dst[last].Until = until
			}
			continue
		}
		dst = append(dst, Entry{Rule: i, Signal: j, At: s.At, Until: until, Points: r.Points, Half: r.Half})
	}
	return dst
}

// Sum is the true sum of a ledger at t: whole numbers where no entry halves.
func Sum(ledger []Entry, t time.Time) float64 {
	whole, halving := 0, 0.0
	for i := range ledger {
		if e := &ledger[i]; e.Half == 0 {
			whole += int(e.Worth(t))
		} else {
			halving += e.Worth(t)
		}
	}
	return float64(whole) + halving
}

// Shown is the figure that people see for a true sum: held between floor and
// ceiling, and to one decimal.
func (m *Model) Shown(sum float64) float64 {
	v := max(sum, float64(m.Floor))
	if m.Ceiling > 0 {
		v = min(v, float64(m.Ceiling))
	}
	return math.Round(v*10) / 10
}

// At is the score at t, counted from all signals.
func (m *Model) At(signals []signal.Signal, facts rule.Facts, t time.Time) float64 {
	return m.Shown(Sum(m.Ledger(nil, signals, facts, t), t))
}

// Halves reports whether some rule of the model loses worth all the time, so
// that a kept figure is old at once.
func (m *Model) Halves() bool {
	for i := range m.Rules {
		if m.Rules[i].Half > 0 {
			return true
		}
	}
	return false
}

// NextChange is the first instant after t at which the ledger's sum changes by
// itself, because points run out; zero where it never does. Halving points
// change all the time and are not considered.
func NextChange(ledger []Entry, t time.Time) time.Time {
	var next time.Time
	for i := range ledger {
		if u := ledger[i].Until; u.After(t) && (next.IsZero() || u.Before(next)) {
			next = u
		}
	}
	return next
}

// Crossings returns the instants from from to to at which the score comes to
// the ready line or over it from below, and whether the line is armed at to.
//
// Was is the score as it was known at from, and armed says whether the line
// was armed then: a crossing disarms it, and only a score below Line − Margin
// arms it again. The ledger is that of instant to. It may hold entries of from
// and before that were not known then, because their signals came late: if
// those bring the score from below to the line, it crossed at from.
func (m *Model) Crossings(ledger []Entry, from, to time.Time, was float64, armed bool) ([]time.Time, bool) {
	if m.Line == 0 {
		return nil, armed
	}
	line, again := float64(m.Line), float64(m.Line-m.Margin)
	var fired []time.Time
	before := was
	armed = armed || before < again
	for t := from; !t.After(to); {
		now := m.Shown(Sum(ledger, t))
		if armed && before < line && now >= line {
			fired, armed = append(fired, t), false
		}
		armed = armed || now < again
		before = now
		n := next(ledger, t)
		if n.IsZero() {
			break
		}
		t = n
	}
	return fired, armed
}

// next is the first instant after t at which an entry begins or ends.
func next(ledger []Entry, t time.Time) time.Time {
	n := NextChange(ledger, t)
	for i := range ledger {
		if a := ledger[i].At; a.After(t) && (n.IsZero() || a.Before(n)) {
			n = a
		}
	}
	return n
}

// Tide is the score over time: its value from an instant on.
type Tide struct {
	At    time.Time
	Value float64
}

// Tides gives the steps of the score from from to to, for a line over time:
// the first at from, then one for each instant at which something begins or
// ends.
func (m *Model) Tides(ledger []Entry, from, to time.Time) []Tide {
	out := []Tide{{from, m.Shown(Sum(ledger, from))}}
	for t := next(ledger, from); !t.IsZero() && !t.After(to); t = next(ledger, t) {
		out = append(out, Tide{t, m.Shown(Sum(ledger, t))})
	}
	return out
}
