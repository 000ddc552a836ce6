package flowmap

import (
	"fmt"
	"math"
	"math/rand/v2"
	"reflect"
	"strings"
	"testing"
)

// guide is a plan with a fork in a fork, as the demo's own.
func guide() Input {
	return Input{Start: 2, People: 1480, Steps: []Step{
		{ID: 2, Title: "Field guide", Figure: "1,480 sent", Exits: []Exit{{Name: "next", To: 3, People: 1480}},
			Left: 88, Why: "answered, opted out"},
		{ID: 3, Title: "Watch 5 days for a click", Figure: "412 on the way",
			Exits: []Exit{{"happened", "Clicked", 5, 588}, {"not in time", "Not in 5 days", 4, 480}}},
		{ID: 4, Day: 5, Title: "Went quiet", Figure: "480"},
		{ID: 5, Day: 5, Title: "Score 15 or more?", Exits: []Exit{{"yes", "Yes", 7, 214}, {"no", "No", 9, 374}}},
		{ID: 7, Day: 5, Title: "From the owner", Exits: []Exit{{Name: "next", To: 8, People: 214}}},
		{ID: 8, Day: 6, Title: "Hand over"},
		{ID: 9, Day: 5, Title: "Call", Exits: []Exit{{"done", "Done", 6, 300}, {"missed", "Missed", 10, 74}}},
		{ID: 6, Day: 5, Title: "End"},
		{ID: 10, Day: 12, Title: "Nobody called"},
	}}
}

// tree makes a random plan in which no two exits lead to the same step.
func tree(rnd *rand.Rand) Input {
	in := Input{Start: 1, People: 1000 + rnd.IntN(5000), Draft: rnd.IntN(2) == 0}
	var grow func(id, people, depth int, day float64)
	last := 1
	grow = func(id, people, depth int, day float64) {
		s := Step{ID: id, Day: day, Title: strings.Repeat("Title ", 1+rnd.IntN(4)),
			Figure: fmt.Sprint(people, " people")}
		s.Title = Cut(s.Title)
		if rnd.IntN(4) == 0 {
			s.Left, s.Why = 1+rnd.IntN(90), "answered, opted out"
		}
		if depth > 0 {
			exits := 1 + rnd.IntN(2)
			for e := range exits {
				last++
				n := people / exits
				label := ""
				if exits > 1 {
					label = []string{"Yes", "Not in 5 days"}[e]
				}
				s.Exits = append(s.Exits, Exit{fmt.Sprint(e), label, last, n})
				defer grow(last, n, depth-1-rnd.IntN(2), day+float64(rnd.IntN(3)*rnd.IntN(9)))
			}
		}
		in.Steps = append(in.Steps, s)
	}
	grow(1, in.People, 6, 0)
	return in
}

// points samples the middle of a stream from left to right.
func points(t *testing.T, m Map, s Stream) func(x float64) (float64, bool) {
	t.Helper()
	var x0, y1, x1, c1, c2, y2, x2, x3, skip float64
	if _, err := fmt.Sscanf(s.Spine, "M%g %g H%g C%g %g %g %g %g %g H%g", &x0, &y1, &x1, &c1, &skip, &c2, &y2, &x2,
		&skip, &x3); err != nil {
		t.Fatalf("spine %q: %v", s.Spine, err)
	}
	return func(x float64) (float64, bool) {
		switch {
		case x < x0 || x > x3:
			return 0, false
		case x <= x1:
			return y1, true
		case x >= x2:
			return y2, true
		}
		lo, hi := 0.0, 1.0 // x grows with the curve's parameter: bisect
		for range 40 {
			u := (lo + hi) / 2
			if bezier(u, x1, c1, c2, x2) < x {
				lo = u
			} else {
				hi = u
			}
		}
		return bezier(lo, y1, y1, y2, y2), true
	}
}

func bezier(u, a, b, c, d float64) float64 {
	v := 1 - u
	return v*v*v*a + 3*v*v*u*b + 3*v*u*u*c + u*u*u*d
}

func TestStreamsOfATreeNeverCross(t *testing.T) {
	rnd := rand.New(rand.NewPCG(1, 2))
	for round := range 300 {
		m := Layout(tree(rnd))
		for i, a := range m.Streams {
			for _, b := range m.Streams[i+1:] {
				if a.From == 0 || b.From == 0 {
					continue
				}
				ya, yb := points(t, m, a), points(t, m, b)
				sign := 0.0
				for x := 0.0; x < m.W; x += 3 {
					p, ok1 := ya(x)
					q, ok2 := yb(x)
					if !ok1 || !ok2 || math.Abs(p-q) < 0.01 {
						continue
					}
					if sign != 0 && math.Signbit(p-q) != math.Signbit(sign) {
						t.Fatalf("round %d: streams %d→%d and %d→%d cross near x=%v", round, a.From, a.To, b.From, b.To,
							x)
					}
					sign = p - q
				}
			}
		}
	}
}

func TestLabelsMeetNothing(t *testing.T) {
	rnd := rand.New(rand.NewPCG(5, 8))
	for round := range 300 {
		in := tree(rnd)
		m := Layout(in)
		for i, a := range m.Buoys {
			if a.Box.X < 0 || a.Box.Y < m.Top-1 || a.Box.X+a.Box.W > m.W || a.At.Y+Radius > m.H {
				t.Fatalf("round %d: step %d is outside the drawing: %+v of %v×%v", round, a.ID, a.Box, m.W, m.H)
			}
			for _, b := range m.Buoys[i+1:] {
				if a.Box.meets(b.Box) {
					t.Fatalf("round %d: the labels of %d and %d overlap: %+v, %+v", round, a.ID, b.ID, a.Box, b.Box)
				}
				if math.Hypot(a.At.X-b.At.X, a.At.Y-b.At.Y) < 2*Radius {
					t.Fatalf("round %d: buoys %d and %d overlap", round, a.ID, b.ID)
				}
			}
			for _, s := range m.Streams {
				if s.Label != "" && s.Pill.meets(Box{a.At.X - Radius, a.At.Y - Radius, 2 * Radius, 2 * Radius}) {
					t.Fatalf("round %d: the answer on %d→%d covers buoy %d", round, s.From, s.To, a.ID)
				}
			}
		}
		for i, a := range m.Threads {
			for _, b := range m.Threads[i+1:] {
				if a.At.Y == b.At.Y && a.At.X < b.At.X && a.At.X+TextWidth(a.Text, 11) > b.At.X {
					t.Fatalf("round %d: %q runs into %q", round, a.Text, b.Text)
				}
			}
		}
	}
}

func TestColumnsFollowTime(t *testing.T) {
	m := Layout(guide())
	heads := ""
	for i, c := range m.Columns {
		if i > 0 && (c.X <= m.Columns[i-1].X || c.Day < m.Columns[i-1].Day) {
			t.Errorf("column %d at %v for day %v comes after %v for day %v", i, c.X, c.Day, m.Columns[i-1].X,
				m.Columns[i-1].Day)
		}
		heads += c.Head + ";"
	}
	if want := "Day 0;;Day 5;;;Day 6;Day 12;"; heads != want {
		t.Errorf("heads %q, want %q", heads, want)
	}
	in := guide()
	in.Steps[8].Day = 40
	if m = Layout(in); !m.Columns[len(m.Columns)-1].Fold {
		t.Error("a wait of a month is not folded")
	}
}

func TestWidthIsPeople(t *testing.T) {
	m := Layout(guide())
	width := map[[2]int]float64{}
	for _, s := range m.Streams {
		width[[2]int{s.From, s.To}] = s.Width
	}
	if w := width[[2]int{0, 2}]; w != widest {
		t.Errorf("all who came in are %v wide, want %v", w, widest)
	}
	if a, b := width[[2]int{3, 5}]/width[[2]int{3, 4}], 588.0/480; math.Abs(a-b) > 1e-9 {
		t.Errorf("588 and 480 people are drawn in the proportion %v, want %v", a, b)
	}
	if w := width[[2]int{9, 10}]; w != thinnest {
		t.Errorf("a few people are %v wide; they must stay visible at %v", w, thinnest)
	}
}

func TestEqualInputEqualPicture(t *testing.T) {
	a := Layout(guide())
	in := guide()
	in.Steps[2], in.Steps[7] = in.Steps[7], in.Steps[2] // the order they are handed in says nothing
	if b := Layout(in); !reflect.DeepEqual(a, b) {
		t.Error("the same plan is drawn differently")
	}
}

func TestMergeAndEmpty(t *testing.T) {
	in := Input{Start: 1, Draft: true, Steps: []Step{
		{ID: 1, Exits: []Exit{{"yes", "Yes", 2, 0}, {"no", "No", 3, 0}}},
		{ID: 2, Day: 1, Exits: []Exit{{"next", "", 4, 0}}}, {ID: 3, Day: 2, Exits: []Exit{{"next", "", 4, 0}}},
		{ID: 4, Day: 5},
	}}
	if m := Layout(in); len(m.Buoys) != 4 || len(m.Streams) != 5 {
		t.Errorf("%d buoys, %d streams", len(m.Buoys), len(m.Streams))
	}
	if m := Layout(Input{}); len(m.Buoys) != 0 || m.W == 0 {
		t.Errorf("an empty plan gives %+v", m)
	}
}

func BenchmarkLayout(b *testing.B) {
	in := guide()
	b.ReportAllocs()
	for b.Loop() {
		Layout(in)
	}
}

// A stream that runs past other steps to one where streams meet has a lane of its own, in
// which it covers no label and no buoy.
func TestStreamsThatMeetRunPast(t *testing.T) {
	rnd := rand.New(rand.NewPCG(9, 4))
	past := 0
	for round := range 300 {
		in := tree(rnd)
		before := map[int]float64{}
		for _, b := range Layout(in).Buoys {
			before[b.ID] = b.At.X
		}
		// Exits are led to steps that stand further right.
		for range 6 {
			s := &in.Steps[rnd.IntN(len(in.Steps))]
			to := in.Steps[rnd.IntN(len(in.Steps))]
			if len(s.Exits) > 1 && before[to.ID] > before[s.ID]+200 && !leadsTo(in, to.ID, s.ID) {
				s.Exits[rnd.IntN(len(s.Exits))].To = to.ID
			}
		}
		m := Layout(in)
		at := map[int]Point{}
		for _, b := range m.Buoys {
			at[b.ID] = b.At
		}
		for _, s := range m.Streams {
			if s.From == 0 || strings.Count(s.Spine, "C") < 2 {
				continue
			}
			past++
			// Straight from its first bend to the one before its end.
			lane := Box{s.Plus.X, s.Plus.Y - s.Width/2, at[s.To].X - Radius - bend - s.Plus.X - 4, s.Width}
			for _, b := range m.Buoys {
				buoy := Box{b.At.X - Radius, b.At.Y - Radius, 2 * Radius, 2 * Radius}
				if b.ID != s.From && b.ID != s.To && lane.W > 0 && (lane.meets(b.Box) || lane.meets(buoy)) {
					t.Fatalf("round %d: the stream %d→%d runs over step %d: %+v, %+v", round, s.From, s.To, b.ID, lane, b.Box)
				}
			}
		}
	}
	if past < 50 {
		t.Errorf("%d streams ran past: the cases show too little", past)
	}
}

func leadsTo(in Input, from, to int) bool {
	if from == to {
		return true
	}
	for _, s := range in.Steps {
		if s.ID == from {
			for _, e := range s.Exits {
				if leadsTo(in, e.To, to) {
					return true
				}
			}
		}
	}
	return false
}

// A date stands over the column whose steps all have it, once for columns side by side; what is no
// working day is tinted.
func TestDatesOverColumns(t *testing.T) {
	in := Input{Start: 1, Draft: true, Steps: []Step{
		{ID: 1, Exits: []Exit{{Name: "a", To: 2}, {Name: "b", To: 3}}},
		{ID: 2, Day: 2, Date: "Sat 16 May", Off: true, Exits: []Exit{{Name: "n", To: 4}}},
		{ID: 3, Day: 2, Date: "Sat 16 May", Off: true},
		{ID: 4, Day: 2, Date: "Sat 16 May", Off: true, Exits: []Exit{{Name: "n", To: 5}, {Name: "o", To: 6}}},
		{ID: 5, Day: 9, Date: "Mon 25 May"}, {ID: 6, Day: 9},
	}}
	var got []string
	for _, c := range Layout(in).Columns {
		got = append(got, fmt.Sprintf("%v %s %v %v", c.Day, c.Date, c.Off, c.W > 0))
	}
	want := "0  false false, 2 Sat 16 May true true, 2  true true, 9  false false"
	if x := strings.Join(got, ", "); x != want {
		t.Errorf("%s, want %s", x, want)
	}
}
