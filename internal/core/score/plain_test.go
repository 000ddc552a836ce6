package score

import (
	"math"
	"math/rand/v2"
	"slices"
	"testing"
	"time"

	"ombak/internal/core/person"
	"ombak/internal/core/rule"
	"ombak/internal/core/signal"
)

// A second way to the same figures, slow and plain: the score at an instant is
// counted from the rules' own words, for that instant alone. Nothing of the
// ledger is used.

type anyone struct {
	rec     *rule.Record
	signals []signal.Signal
}

func (s *anyone) Record() *rule.Record                 { return s.rec }
func (s *anyone) Score(rule.Figure, time.Time) float64 { return 0 }
func (s *anyone) Count(p *signal.Pattern, from, to time.Time) int {
	n := 0
	for i := range s.signals {
		if x := &s.signals[i]; p.Matches(x) && !x.At.Before(from) && !x.At.After(to) {
			n++
		}
	}
	return n
}

// plainParts is what each rule of a model gives.
func plainParts(m *Model, who *anyone, t time.Time) []float64 {
	holds := func(r *Rule, at time.Time) bool { return !r.If.Asks() || r.If.Holds(who, at) }
	// "from its signal on, everything is counted as if nothing before had happened"
	var counted []signal.Signal
	for _, s := range who.signals {
		if s.At.After(t) {
			continue
		}
		for i := range m.Rules {
			if r := &m.Rules[i]; r.Wipe && r.On.Matches(&s) && holds(r, s.At) {
				counted = nil
				break
			}
		}
		counted = append(counted, s)
	}
	parts := make([]float64, len(m.Rules))
	for i := range m.Rules {
		r := &m.Rules[i]
		if !holds(r, t) {
			continue
		}
		if r.On.Kind == 0 { // "a signal pattern or a record condition": it holds, see above
			parts[i] += float64(r.Points)
			continue
		}
		if r.Often == While { // "gives its points exactly while that holds"
			n := 0
			for _, s := range counted {
				if r.On.Matches(&s) && !s.At.Before(t.Add(-time.Duration(r.Window)*24*time.Hour)) {
					n++
				}
			}
			if n >= r.N {
				parts[i] += float64(r.Points)
			}
			continue
		}
		given, days := 0, map[string]int{}
		for _, s := range counted {
			if !r.On.Matches(&s) {
				continue
			}
			date := s.At.In(m.Zone).Format(time.DateOnly)
			days[date]++
			if r.Often == First && given == 1 || r.Often == InAll && given == r.N || r.Often == PerDay &&
				days[date] > r.N {
				continue
			}
			given++
			if end := s.At.Add(time.Duration(r.Lasts) * 24 * time.Hour); r.Lasts > 0 && !t.Before(end) {
				continue
			}
			worth := float64(r.Points)
			if s.Kind == signal.PointsGiven { // "Points given are a signal with a whole number"
				worth *= float64(s.Worth)
			}
			if r.Half > 0 {
				worth *= math.Pow(2, -t.Sub(s.At).Hours()/24/float64(r.Half))
			}
			parts[i] += worth
		}
	}
	return parts
}

func plainScore(m *Model, who *anyone, t time.Time) float64 {
	sum := 0.0
	for _, v := range plainParts(m, who, t) {
		sum += v
	}
	if sum < float64(m.Floor) {
		sum = float64(m.Floor)
	}
	if m.Ceiling > 0 && sum > float64(m.Ceiling) {
		sum = float64(m.Ceiling)
	}
	return math.Round(sum*10) / 10
}

// anyModel makes a model with rules of every kind, at the edges: windows of a
// day, several wipes, conditions that time alone turns.
func anyModel(rnd *rand.Rand, halves bool) Model {
	zone, err := time.LoadLocation("Asia/Jakarta")
	if err != nil {
		panic(err)
	}
	m := Model{Line: 5 + rnd.IntN(12), Margin: rnd.IntN(5), Zone: zone, Floor: -1000 * rnd.IntN(2),
		Ceiling: 40 * rnd.IntN(2)}
	kinds := []signal.Kind{signal.PageView, signal.Open, signal.Click, signal.OptOut, signal.PointsGiven}
	for i := range 2 + rnd.IntN(4) {
		r := Rule{ID: int64(i + 1), On: on(kinds[rnd.IntN(len(kinds))]), Points: rnd.IntN(14) - 4,
			Lasts: []int{0, 1, 2, 7}[rnd.IntN(4)], Wipe: rnd.IntN(5) == 0}
		r.Often = []Often{Always, First, PerDay, InAll, While}[rnd.IntN(5)]
		r.N, r.Window = 1+rnd.IntN(3), 1+rnd.IntN(4)
		if halves && r.Often != While && rnd.IntN(2) == 0 {
			r.Half = 1 + rnd.IntN(5)
		}
		switch rnd.IntN(6) {
		case 0:
			r.If = rule.Rule{If: &rule.Condition{Signal: &signal.Pattern{Kind: signal.Click},
				Op: []rule.Op{rule.AtLeast, rule.AtMost}[rnd.IntN(2)], N: 1, Days: 1 + rnd.IntN(3)}}
		case 1:
			r.If = rule.Rule{If: &rule.Condition{Field: person.Created, Op: rule.Within, Days: 1 + rnd.IntN(6)}}
		case 2:
			r.If = rule.Rule{None: []rule.Rule{{If: &rule.Condition{About: rule.Lost, Op: rule.Within, Days: 2}}}}
		case 3:
			r.If = rule.FieldIs(person.Country, "NO")
		}
		if r.If.Asks() && rnd.IntN(4) == 0 {
			r = Rule{ID: r.ID, Points: r.Points, If: r.If}
		}
		m.Rules = append(m.Rules, r)
	}
	return m
}

// anybody makes a person whose signals often share an instant, or lie just at
// the end of a window.
func anybody(rnd *rand.Rand) *anyone {
	w := &anyone{rec: &rule.Record{Values: person.Values{person.Country: []string{"NO", "CA"}[rnd.IntN(2)],
		person.Created: day0.Add(time.Duration(rnd.IntN(96)) * time.Hour).Format(time.RFC3339)}}}
	if rnd.IntN(2) == 0 {
		w.rec.Deals = []rule.DealFact{{Stage: 1, Closed: day0.Add(time.Duration(rnd.IntN(96)) * time.Hour), Lost: true}}
	}
	kinds := []signal.Kind{signal.PageView, signal.Open, signal.Open, signal.Click, signal.Click, signal.OptOut,
		signal.PointsGiven}
	at := day0
	for i := range rnd.IntN(14) {
		at = at.Add([]time.Duration{0, 0, time.Microsecond, 7 * time.Hour, 24 * time.Hour, 48 * time.Hour,
			24*time.Hour + time.Microsecond}[rnd.IntN(7)])
		s := signal.Signal{ID: int64(i + 1), At: at, Kind: kinds[rnd.IntN(len(kinds))], Machine: rnd.IntN(8) == 0}
		if s.Kind == signal.PointsGiven {
			s.Worth = rnd.IntN(9) - 2
		}
		w.signals = append(w.signals, s)
	}
	return w
}

// edges are the instants around everything that can happen to somebody.
func edges(w *anyone, from, to time.Time) []time.Time {
	base := []time.Time{day0}
	for _, s := range w.signals {
		base = append(base, s.At)
	}
	for _, d := range w.rec.Deals {
		base = append(base, d.Closed)
	}
	if t, err := time.Parse(time.RFC3339, w.rec.Text(person.Created)); err == nil {
		base = append(base, t)
	}
	var out []time.Time
	for _, b := range base {
		for d := range 8 {
			for _, us := range []time.Duration{-1, 0, 1, 2} {
				if t := b.Add(time.Duration(d)*24*time.Hour + us*time.Microsecond); !t.Before(from) && !t.After(to) {
					out = append(out, t)
				}
			}
		}
	}
	slices.SortFunc(out, time.Time.Compare)
	return slices.CompactFunc(out, time.Time.Equal)
}

func TestLedgerAgainstThePlainWay(t *testing.T) {
	rnd := rand.New(rand.NewPCG(4, 4))
	asked := 0
	for range 1200 {
		m, w := anyModel(rnd, true), anybody(rnd)
		to := day0.AddDate(0, 0, 12)
		last := m.Ledger(nil, w.signals, w, to)
		for _, at := range edges(w, day0, to) {
			if rnd.IntN(4) > 0 {
				continue
			}
			asked++
			want := plainScore(&m, w, at)
			if got := m.At(w.signals, w, at); math.Abs(got-want) > 1e-9 {
				t.Fatalf("at %v: %v, plainly %v\n%+v\n%+v", at, got, want, m, w)
			}
			// The ledger of a later instant says the same of an earlier one.
			if got := m.Shown(Sum(last, at)); math.Abs(got-want) > 1e-9 {
				t.Fatalf("looked back to %v: %v, plainly %v\n%+v\n%+v", at, got, want, m, w)
			}
		}
	}
	if asked < 3300 {
		t.Errorf("only %d asked", asked)
	}
}

// TestCrossingsAgainstThePlainWay looks at every instant at which something can
// happen, one after the other.
func TestCrossingsAgainstThePlainWay(t *testing.T) {
	rnd := rand.New(rand.NewPCG(5, 5))
	crossed := 0
	for range 1200 {
		m, w := anyModel(rnd, false), anybody(rnd)
		from, to := day0.Add(-time.Hour), day0.AddDate(0, 0, 12)
		before, armed := m.Shown(0), true
		var want []time.Time
		for _, at := range append([]time.Time{from}, edges(w, from, to)...) { // what is on the record counts at once
			now := plainScore(&m, w, at)
			if armed && before < float64(m.Line) && now >= float64(m.Line) {
				want, armed = append(want, at), false
			}
			armed = armed || now < float64(m.Line-m.Margin)
			before = now
		}
		got, still := m.Crossings(m.Ledger(nil, w.signals, w, to), from, to, m.Shown(0), true)
		crossed += len(got)
		if !slices.EqualFunc(got, want, time.Time.Equal) || still != armed {
			t.Fatalf("crossed at %v (armed %v), plainly %v (%v)\n%+v\n%+v", got, still, want, armed, m, w)
		}
	}
	if crossed < 300 {
		t.Errorf("only %d crossings", crossed)
	}
}

// TestKeptAgainstLookedAtOnce: whoever looks at every change, and whoever looks
// once after long silence, find the same crossings and the same figure.
func TestKeptAgainstLookedAtOnce(t *testing.T) {
	rnd := rand.New(rand.NewPCG(6, 6))
	crossed, rising, parts := 0, 0, 0
	for range 1200 {
		m, w := anyModel(rnd, true), anybody(rnd)
		from, to := day0.Add(-time.Hour), day0.AddDate(0, 0, 12)
		once, armedOnce := m.Crossings(m.Ledger(nil, w.signals, w, to), from, to, m.Shown(0), true)

		var kept []time.Time
		armed, at, was, i := true, from, m.Shown(0), 0
		look := func(now time.Time) {
			seen := w.signals[:i]
			ledger := m.Ledger(nil, seen, &anyone{w.rec, seen}, now)
			var fired []time.Time
			fired, armed = m.Crossings(ledger, at, now, was, armed)
			kept = append(kept, fired...)
			at, was = now, m.Shown(Sum(ledger, now))
			if n := m.NextChange(ledger, now); !n.IsZero() && !n.After(now) {
				t.Fatalf("the next change is not after %v", now)
			}
		}
		for {
			seen := w.signals[:i]
			next := to
			if n := m.NextChange(m.Ledger(nil, seen, &anyone{w.rec, seen}, at), at); !n.IsZero() && n.Before(next) {
				next = n
			}
			if i < len(w.signals) && !w.signals[i].At.After(next) {
				next = w.signals[i].At
				for i < len(w.signals) && w.signals[i].At.Equal(next) {
					i++
				}
			}
			look(next)
			if want := plainScore(&m, w, next); math.Abs(was-want) > 1e-9 {
				t.Fatalf("kept %v at %v, plainly %v\n%+v\n%+v", was, next, want, m, w)
			}
			parts += kept1(t, rnd, &m, w, w.signals[:i], next, to)
			if !next.Before(to) {
				break
			}
		}
		crossed += len(kept)
		for _, x := range kept {
			if !slices.ContainsFunc(w.signals, func(s signal.Signal) bool { return s.At.Equal(x) }) {
				rising++
			}
		}
		near := func(a, b time.Time) bool { return a.Sub(b).Abs() <= time.Microsecond }
		if !slices.EqualFunc(once, kept, near) || armed != armedOnce {
			t.Fatalf("kept: crossed at %v (armed %v); at once: %v (%v)\n%+v\n%+v", kept, armed, once, armedOnce, m, w)
		}
	}
	if crossed < 300 || rising < 20 || parts < 20_000 {
		t.Errorf("only %d crossings, %d of them by time alone, and %d points of rules", crossed, rising, parts)
	}
}

// kept1 holds what each rule gives, as it is kept at an instant, against what it plainly gives then and at some instant
// before the next change: there the two compare alike with every whole number. It answers how many gave something.
func kept1(t *testing.T, rnd *rand.Rand, m *Model, w *anyone, seen []signal.Signal, at, to time.Time) (gave int) {
	t.Helper()
	who := &anyone{w.rec, seen}
	ledger := m.Ledger(nil, seen, who, at)
	later := m.NextChange(ledger, at)
	if later.IsZero() {
		later = to
	}
	if len(seen) < len(w.signals) && w.signals[len(seen)].At.Before(later) {
		later = w.signals[len(seen)].At
	}
	between := at
	if gap := later.Sub(at); gap > 1 {
		between = at.Add(time.Duration(rnd.Int64N(int64(gap)))).Truncate(time.Microsecond)
	}
	kept := map[int64]float64{}
	for _, p := range m.Parts(nil, ledger, at) {
		kept[p.Rule] = p.Points
		gave++
	}
	now, then := plainParts(m, who, at), plainParts(m, who, between)
	for i := range m.Rules {
		id := m.Rules[i].ID
		if v := math.Round(now[i]*10) / 10; math.Abs(kept[id]-v) > 1e-9 || m.Of(id, seen, who, at) != kept[id] {
			t.Fatalf("rule %d gives %v at %v, plainly %v\n%+v\n%+v", i, kept[id], at, v, m, who)
		}
		if v := math.Round(then[i]*10) / 10; !between.Before(at) && place(kept[id]) != place(v) {
			t.Fatalf("rule %d gave %v at %v and gives %v at %v, before the next change at %v\n%+v\n%+v", i, kept[id], at,
				v, between, later, m, who)
		}
	}
	return gave
}

// Points of a minus that halve rise again, and bring somebody over the line with
// nothing done: 20 − 10·2^(−t/10 days) is 15 after exactly ten days.
func TestRisingAgain(t *testing.T) {
	m := Model{Line: 15,
		Rules: []Rule{{On: on(signal.Click), Points: 20}, {On: on(signal.Open), Points: -10, Half: 10}}}
	list := []signal.Signal{{ID: 1, At: day0, Kind: signal.Open}, {ID: 2, At: day0, Kind: signal.Click}}
	ledger := m.Ledger(nil, list, nil, day(20))
	got, armed := m.Crossings(ledger, day0.Add(-time.Hour), day(20), 0, true)
	if len(got) != 1 || armed {
		t.Fatalf("crossed at %v", got)
	}
	// The figure shows 15.0 from 14.95 on, a little earlier.
	if now, before := m.Shown(Sum(ledger, got[0])), m.Shown(Sum(ledger, got[0].Add(-time.Microsecond))); now != 15 ||
		before != 14.9 || got[0].After(day(10)) || got[0].Before(day(9)) {
		t.Errorf("crossed at %v, from %v to %v", got[0], before, now)
	}
	// At the floor nothing is seen, and still it rises.
	m = Model{Line: 15, Rules: m.Rules[1:]}
	if n := m.NextChange(m.Ledger(nil, list[:1], nil, day(0)), day(0)); n.IsZero() {
		t.Error("a figure held at the floor is never counted again")
	}
}

// TestFallsAgainstThePlainWay looks at every instant at which something can end, and between them every hour where
// points halve.
func TestFallsAgainstThePlainWay(t *testing.T) {
	rnd := rand.New(rand.NewPCG(7, 7))
	fell := 0
	for n := range 800 {
		m, w := anyModel(rnd, n%2 == 0), anybody(rnd)
		m.Line = 1 + rnd.IntN(6)
		at, until := day0.AddDate(0, 0, rnd.IntN(4)), day0.AddDate(0, 0, 14)
		ledger := m.Ledger(nil, w.signals, w, at)
		figure := func(x time.Time) float64 { return m.Shown(Sum(ledger, x)) }
		looks := []time.Time{at, until}
		for _, e := range ledger {
			looks = append(looks, e.At, e.Until)
		}
		for x := at; x.Before(until); x = x.Add(time.Hour) {
			looks = append(looks, x)
		}
		slices.SortFunc(looks, time.Time.Compare)
		var want time.Time
		for _, x := range looks {
			if !x.Before(at) && !x.After(until) && figure(at) >= float64(m.Line) && figure(x) < float64(m.Line) {
				want = x
				break
			}
		}
		got := m.Falls(ledger, at, until)
		if !want.IsZero() {
			fell++
		}
		// Between two looks the plain way sees nothing: it is up to an hour late where points halve.
		if late := want.Sub(got); got.IsZero() != want.IsZero() || late < 0 || late > time.Hour ||
			!got.IsZero() && (figure(got) >= float64(m.Line) || figure(got.Add(-time.Microsecond)) < float64(m.Line)) {
			t.Fatalf("falls at %v, plainly %v\n%+v\n%+v", got, want, m, ledger)
		}
	}
	if fell < 100 {
		t.Errorf("only %d fell", fell)
	}
}

// TestTallyAgainstThePlainWay counts each rule as if it alone gave points, and each week by itself.
func TestTallyAgainstThePlainWay(t *testing.T) {
	rnd := rand.New(rand.NewPCG(9, 9))
	for range 60 {
		m := anyModel(rnd, true)
		m.Floor, m.Ceiling = -1000, 0
		m.Bands = []rule.Band{{Name: "low"}, {Name: "mid", From: 3}, {Name: "high", From: 9}}
		at := []time.Time{day0.AddDate(0, 0, 2), day0.AddDate(0, 0, 5), day0.AddDate(0, 0, 8)}
		got := NewTally(&m, at)
		var all []*anyone
		for range 20 {
			w := anybody(rnd)
			all = append(all, w)
			got.Add(&m, m.Ledger(nil, w.signals, w, at[2]))
		}
		for i := range m.Rules {
			one := m.Clone()
			for j := range one.Rules {
				if j != i {
					one.Rules[j].Points = 0
				}
			}
			people, points := int64(0), 0.0
			for _, w := range all {
				v := plainScore(&one, w, at[2])
				points += v
				if v != 0 {
					people++
				}
			}
			// The plain way rounds each person's to a tenth; points of one rule that add up to nothing are points.
			if r := got.Rules[i]; math.Abs(r.Points-points) > 0.05*20+1e-9 || r.People < people || r.Ever < r.People {
				t.Fatalf("rule %d: %+v, plainly %d people with %v\n%+v", i, r, people, points, m.Rules[i])
			}
		}
		var was []int
		for k, x := range at {
			bands, up, down := make([]int64, 3), int64(0), int64(0)
			var is []int
			for n, w := range all {
				in := -1
				for b, band := range m.Bands {
					if plainScore(&m, w, x) >= float64(band.From) {
						in = b
					}
				}
				if in >= 0 {
					bands[in]++
				}
				if k > 0 && in > was[n] {
					up++
				}
				if k > 0 && in < was[n] {
					down++
				}
				is = append(is, in)
			}
			was = is
			if w := got.Weeks[k]; !slices.Equal(w.Bands, bands) || w.Up != up || w.Down != down {
				t.Fatalf("week %d: %+v, plainly %v, %d up, %d down", k, w, bands, up, down)
			}
		}
		if got.People != 20 || got.With > 20 {
			t.Fatalf("of 20 people: %+v", got)
		}
	}
}

// The steps of a score are those that asking at each instant finds: each where something begins or ends, with the
// figure from then on; and the first other figure is the first of them that differs.
func TestTidesAgainstThePlainWay(t *testing.T) {
	rnd := rand.New(rand.NewPCG(16, 3))
	steps := 0
	for range 1500 {
		m, w := anyModel(rnd, true), anybody(rnd)
		from := day0.Add(time.Duration(rnd.IntN(100)) * time.Hour)
		to := from.AddDate(0, 0, 1+rnd.IntN(10))
		ledger := m.Ledger(nil, w.signals, w, to)
		want := []Tide{{from, m.Shown(Sum(ledger, from))}}
		var turn Tide
		for at := next(ledger, from); !at.IsZero() && !at.After(to); at = next(ledger, at) {
			want = append(want, Tide{at, m.Shown(Sum(ledger, at))})
			if turn.At.IsZero() && want[len(want)-1].Value != want[0].Value {
				turn = want[len(want)-1]
			}
		}
		steps += len(want)
		if got := m.Tides(ledger, from, to); !slices.Equal(got, want) {
			t.Fatalf("the steps are\n%v\nplainly\n%v\nof\n%+v", got, want, ledger)
		}
		if got := m.Turns(ledger, from, to); got != turn {
			t.Fatalf("it turns %v, plainly %v", got, turn)
		}
	}
	if steps < 3500 {
		t.Errorf("only %d steps", steps)
	}
}
