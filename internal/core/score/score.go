// Package score turns what people do into a figure that can be explained: a
// model of rules, the ledger of points they gave, and the ready line.
//
// The score at an instant depends on the signals up to it, on the record and
// on that instant alone; not on when anybody looked. So a score can be asked
// for any past instant, and keeping it up to date as signals come gives the
// same figure as counting everything again.
//
// Signals are in the order of their instants, and of their ids within one: what
// is "before" or "after" is so in that order. Instants are whole microseconds, as
// the database keeps them.
//
// A rule for points that a step gave gives its points for each of them, so that one of 1 point counts them as
// they were given; one that gives its points while there are at least so many signals gives them once.
//
// A rule with a condition gives its points exactly while the condition holds of
// the record as it is now. What it wipes, it wipes where the condition holds at
// the instant of the signal. A rule of the record alone gives them once, exactly while its condition holds; nothing
// that happens wipes what somebody is.
package score

import (
	"math"
	"slices"
	"time"

	"ombak/internal/core/rule"
	"ombak/internal/core/signal"
)

// Entry is one line of the ledger: points that a rule gave for a signal, as long
// as they count without a break. Points that a condition switches off and on
// again have an entry for each stretch.
type Entry struct {
	Rule   int       // index into Model.Rules
	Signal int       // index into the signals; of While, the one that completed it; −1: it is for the record
	Made   time.Time // when the points were given: halving counts from here; zero: they are for the record
	At     time.Time // first instant at which they count; Made, unless a condition came to hold only later
	Until  time.Time // first instant at which they no longer do; zero: never ends
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
	age := t.Sub(e.Made).Hours() / 24
	return float64(e.Points) * math.Exp2(-age/float64(e.Half))
}

// Ledger appends to dst the entries that the sorted signals up to at give, in
// the order of their instants within each rule and each stretch between wipes,
// and returns it. Entries hold for every instant not after at, and after it for
// as long as no signal comes and nothing changes on the record. Facts may be nil
// where no rule has an If.
func (m *Model) Ledger(dst []Entry, signals []signal.Signal, facts rule.Facts, at time.Time) []Entry {
	for len(signals) > 0 && signals[len(signals)-1].At.After(at) {
		signals = signals[:len(signals)-1]
	}
	from := 0
	for _, to := range m.wipes(signals, facts) {
		begun := len(dst)
		dst = m.stretch(dst, signals, from, to)
		end := signals[to].At
		for i := begun; i < len(dst); i++ {
			if e := &dst[i]; e.Until.IsZero() || e.Until.After(end) {
				e.Until = end
			}
		}
		from = to
	}
	dst = m.stretch(dst, signals, from, len(signals))
	for i := range m.Rules {
		if m.Rules[i].OfRecord() {
			dst = append(dst, Entry{Rule: i, Signal: -1, Points: m.Rules[i].Points})
		}
	}
	return m.conditions(dst, signals, facts)
}

// wipes lists the signals from which on nothing before counts.
func (m *Model) wipes(signals []signal.Signal, facts rule.Facts) []int {
	var out []int
	for i := range m.Rules {
		if !m.Rules[i].Wipe {
			continue
		}
		for j := range signals {
			if wipe := m.wipesAt(signals, j, facts); wipe && (len(out) == 0 || out[len(out)-1] < j) {
				out = append(out, j)
			}
		}
		return out // each signal was asked of every rule
	}
	return nil
}

func (m *Model) wipesAt(signals []signal.Signal, j int, facts rule.Facts) bool {
	for i := range m.Rules {
		r := &m.Rules[i]
		if r.Wipe && r.On.Matches(&signals[j]) && (!r.If.Asks() || facts != nil && r.If.Holds(facts, signals[j].At)) {
			return true
		}
	}
	return false
}

// stretch adds what the signals from one to before another give by themselves.
func (m *Model) stretch(dst []Entry, signals []signal.Signal, from, to int) []Entry {
	for i := range m.Rules {
		r := &m.Rules[i]
		switch {
		case r.Points == 0 || r.OfRecord():
		case r.Often == While:
			dst = m.while(dst, i, signals, from, to)
		default:
			dst = m.each(dst, i, signals, from, to)
		}
	}
	return dst
}

// conditions cuts the entries of rules with a condition to the stretches in
// which it holds.
func (m *Model) conditions(ledger []Entry, signals []signal.Signal, facts rule.Facts) []Entry {
	asks := false
	for i := range m.Rules {
		asks = asks || m.Rules[i].If.Asks()
	}
	if !asks {
		return ledger
	}
	turns := map[int][]time.Time{} // by rule: the instants at which its condition can turn
	out := ledger[:0:0]
	for _, e := range ledger {
		r := &m.Rules[e.Rule]
		if !r.If.Asks() {
			out = append(out, e)
			continue
		}
		if facts == nil {
			continue
		}
		when, ok := turns[e.Rule]
		if !ok {
			when = r.If.Changes(facts.Record(), signals)
			slices.SortFunc(when, time.Time.Compare)
			turns[e.Rule] = when
		}
		out = cutTo(out, e, when, func(t time.Time) bool { return r.If.Holds(facts, t) })
	}
	return append(ledger[:0], out...)
}

// cutTo adds the stretches of e in which something holds that can turn only at
// some instants.
func cutTo(dst []Entry, e Entry, turns []time.Time, holds func(time.Time) bool) []Entry {
	whole, on := e, holds(e.At)
	for _, t := range turns {
		if !t.After(whole.At) {
			continue
		}
		if !whole.Until.IsZero() && !t.Before(whole.Until) {
			break
		}
		switch now := holds(t); {
		case now == on:
		case on:
			e.Until = t
			dst, on = append(dst, e), false
		default:
			e.At, on = t, true
		}
	}
	if on {
		e.Until = whole.Until
		dst = append(dst, e)
	}
	return dst
}

// each adds an entry for every signal that the rule's frequency lets count.
func (m *Model) each(dst []Entry, i int, signals []signal.Signal, from, to int) []Entry {
	r := &m.Rules[i]
	given, day, onDay := 0, 0, 0
	for j := from; j < to; j++ {
		s := &signals[j]
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
		e := Entry{Rule: i, Signal: j, Made: s.At, At: s.At, Points: r.worth(s), Half: r.Half}
		if r.Lasts > 0 {
			e.Until = s.At.Add(time.Duration(r.Lasts) * 24 * time.Hour)
		}
		dst = append(dst, e)
	}
	return dst
}

// worth is what the rule gives for a signal: its points, and of points that a step gave its points for each.
func (r *Rule) worth(s *signal.Signal) int {
	if s.Kind == signal.PointsGiven {
		return r.Points * s.Worth
	}
	return r.Points
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
func (m *Model) while(dst []Entry, i int, signals []signal.Signal, from, to int) []Entry {
	r := &m.Rules[i]
	begun := len(dst)
	var seen []int // matching signals, the last N of them
	for j := from; j < to; j++ {
		s := &signals[j]
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
		dst = append(dst, Entry{Rule: i, Signal: j, Made: s.At, At: s.At, Until: until, Points: r.Points, Half: r.Half})
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

// Part is what one rule gives, by its id.
type Part struct {
	Rule   int64
	Points float64
}

// Parts appends what each rule gives at t, to one decimal and in the order of the rules; those that give nothing are
// left out. It is not held between floor and ceiling.
func (m *Model) Parts(dst []Part, ledger []Entry, t time.Time) []Part {
	for i := range m.Rules {
		if v := ofRule(ledger, i, t); v != 0 {
			dst = append(dst, Part{m.Rules[i].ID, v})
		}
	}
	return dst
}

// ofRule is what the rule at i gives at t.
func ofRule(ledger []Entry, i int, t time.Time) float64 {
	sum := 0.0
	for j := range ledger {
		if ledger[j].Rule == i {
			sum += ledger[j].Worth(t)
		}
	}
	return math.Round(sum*10) / 10
}

// Of is the score at t, counted from all signals, or the points of one rule by its id; 0: of all. A rule that is not
// there gives nothing.
func (m *Model) Of(id int64, signals []signal.Signal, facts rule.Facts, t time.Time) float64 {
	if id == 0 {
		return m.At(signals, facts, t)
	}
	i := m.RuleOf(id)
	if i < 0 {
		return 0
	}
	return ofRule(m.Ledger(nil, signals, facts, t), i, t)
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

// Refresh is how old a figure of halving points may be.
const Refresh = time.Hour

// NextChange is the first instant after t at which the figure can change by
// itself: because points begin or end to count, or because halving points have
// changed it so that a comparison with a whole number can come out otherwise;
// of a figure that halves at the latest after an hour. Zero: it never changes.
func (m *Model) NextChange(ledger []Entry, t time.Time) time.Time {
	n := next(ledger, t)
	if halving(ledger, t) < noticed {
		return n
	}
	hour := t.Add(Refresh)
	if !n.IsZero() && !n.After(hour) {
		hour = n.Add(-time.Microsecond)
	}
	var room [8]float64
	was := m.places(room[:0], ledger, t)
	var again [8]float64
	other := func(x time.Time) bool { return !slices.Equal(m.places(again[:0], ledger, x), was) }
	if other(hour) {
		return bisect(t, hour, other)
	}
	if !n.IsZero() && !n.After(t.Add(Refresh)) {
		return n
	}
	return hour
}

// noticed is what halving points have to be worth in all to change the figure:
// it is rounded to a tenth, and the others are whole.
const noticed = 0.05

// halving is what the halving points of a ledger can change the figure by.
func halving(ledger []Entry, t time.Time) float64 {
	sum := 0.0
	for i := range ledger {
		if ledger[i].Half > 0 {
			sum += math.Abs(ledger[i].Worth(t))
		}
	}
	return sum
}

// place tells figures apart that compare differently with some whole number.
func place(v float64) float64 {
	if v == math.Trunc(v) {
		return v
	}
	return math.Floor(v) + 0.5
}

// places are those of the figure, and of the points of each rule that halve.
func (m *Model) places(dst []float64, ledger []Entry, t time.Time) []float64 {
	dst = append(dst, place(m.Shown(Sum(ledger, t))))
	for i := range m.Rules {
		if m.Rules[i].Half > 0 {
			dst = append(dst, place(ofRule(ledger, i, t)))
		}
	}
	return dst
}

// bisect finds the first instant after a at which something is so that is not
// at a, is at b, and turns once between.
func bisect(a, b time.Time, is func(time.Time) bool) time.Time {
	for b.Sub(a) > time.Microsecond {
		mid := a.Add(b.Sub(a) / 2).Truncate(time.Microsecond)
		if is(mid) {
			b = mid
		} else {
			a = mid
		}
	}
	return b
}

// Crossings returns the instants from from to to at which the score comes to
// the ready line or over it from below, and whether the line is armed at to.
//
// Was is the score as it was known at from, and armed says whether the line
// was armed then: a crossing disarms it, and only a score below Line − Margin
// arms it again. The ledger is that of instant to. It may hold entries of from
// and before that were not known then, because their signals came late: if
// those bring the score from below to the line, it crossed at from.
//
// Halving points of a minus rise again: between two instants at which points
// begin or end, the score is looked at every hour, and where it has come to the
// line the instant is sought to the microsecond.
func (m *Model) Crossings(ledger []Entry, from, to time.Time, was float64, armed bool) ([]time.Time, bool) {
	if m.Line == 0 {
		return nil, armed
	}
	line, again := float64(m.Line), float64(m.Line-m.Margin)
	at := func(t time.Time) float64 { return m.Shown(Sum(ledger, t)) }
	var fired []time.Time
	before := was
	armed = armed || before < again
	look := func(t time.Time) {
		now := at(t)
		if armed && before < line && now >= line {
			fired, armed = append(fired, t), false
		}
		armed = armed || now < again
		before = now
	}
	for t := from; !t.After(to); {
		look(t)
		n := next(ledger, t)
		end := n.Add(-time.Microsecond)
		if n.IsZero() || n.After(to) {
			end = to
		}
		if halving(ledger, t) >= noticed {
			for last := t; last.Before(end); {
				x := last.Add(Refresh)
				if x.After(end) {
					x = end
				}
				if before < line && at(x) >= line {
					x = bisect(last, x, func(y time.Time) bool { return at(y) >= line })
				}
				look(x)
				last = x
			}
		}
		if n.IsZero() {
			break
		}
		t = n
	}
	return fired, armed
}

// next is the first instant after t at which an entry begins or ends.
func next(ledger []Entry, t time.Time) time.Time {
	var n time.Time
	for i := range ledger {
		for _, x := range [2]time.Time{ledger[i].At, ledger[i].Until} {
			if x.After(t) && (n.IsZero() || x.Before(n)) {
				n = x
			}
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
	type step struct {
		at time.Time
		by int
	}
	var steps []step
	var halving []Entry
	whole := 0
	for i := range ledger {
		e := &ledger[i]
		by := e.Points
		if e.Half > 0 {
			halving = append(halving, *e)
			by = 0
		} else if whole += int(e.Worth(from)); !e.Until.IsZero() && !e.Until.After(e.At) {
			by = 0 // it never counts
		}
		if e.At.After(from) && !e.At.After(to) {
			steps = append(steps, step{e.At, by})
		}
		if e.Until.After(from) && !e.Until.After(to) {
			steps = append(steps, step{e.Until, -by})
		}
	}
	slices.SortFunc(steps, func(a, b step) int { return a.at.Compare(b.at) })
	out := []Tide{{from, m.Shown(float64(whole) + Sum(halving, from))}}
	for i, s := range steps {
		if whole += s.by; i+1 == len(steps) || steps[i+1].at.After(s.at) {
			out = append(out, Tide{s.at, m.Shown(float64(whole) + Sum(halving, s.at))})
		}
	}
	return out
}

// Turns is the first of the Tides after t, and not after until, whose figure is not that of t; zero: there is none.
func (m *Model) Turns(ledger []Entry, t, until time.Time) Tide {
	was := m.Shown(Sum(ledger, t))
	for t = next(ledger, t); !t.IsZero() && !t.After(until); t = next(ledger, t) {
		if v := m.Shown(Sum(ledger, t)); v != was {
			return Tide{t, v}
		}
	}
	return Tide{}
}

// Falls is the first instant after t, and not after until, at which the figure is below the ready line, where nothing
// is done any more; zero: it stays at the line, or was below it at t.
func (m *Model) Falls(ledger []Entry, t, until time.Time) time.Time {
	below := func(x time.Time) bool { return m.Shown(Sum(ledger, x)) < float64(m.Line) }
	if m.Line == 0 || below(t) {
		return time.Time{}
	}
	if !slices.ContainsFunc(ledger, func(e Entry) bool { return e.Half > 0 }) {
		for _, x := range m.Tides(ledger, t, until) {
			if x.Value < float64(m.Line) {
				return x.At
			}
		}
		return time.Time{}
	}
	for from := t; !from.After(until); {
		if below(from) {
			return from
		}
		n := next(ledger, from)
		end := n.Add(-time.Microsecond)
		if n.IsZero() || n.After(until) {
			end = until
		}
		for halving(ledger, from) >= noticed && from.Before(end) { // one day is short beside a half-life
			x := from.Add(24 * time.Hour)
			if x.After(end) {
				x = end
			}
			if below(x) {
				return bisect(from, x, below)
			}
			from = x
		}
		if n.IsZero() {
			break
		}
		from = n
	}
	return time.Time{}
}
