package handoff

import (
	"math"
	"math/rand/v2"
	"slices"
	"testing"
	"time"

	"ombak/internal/core/score"
	"ombak/internal/core/signal"
)

var t0 = time.Date(2026, 4, 14, 9, 20, 0, 0, time.UTC)

func TestRoute(t *testing.T) {
	reps := []Rep{{ID: 1, Name: "Ana", Capacity: 2, Open: 2, Weight: 1, Last: t0},
		{ID: 2, Name: "Bo", Capacity: 5, Weight: 1, Last: t0.Add(time.Hour), Teams: []int64{7}},
		{ID: 3, Name: "Cy", Weight: 1, Last: t0.Add(time.Hour), Teams: []int64{7, 8}},
		{ID: 4, Name: "Di", Away: true, Weight: 1, Teams: []int64{9}}, {ID: 5, Name: "Ed"}}
	north, south, team, empty := Territory{Name: "North", Rep: 3}, Territory{Name: "South", Rep: 4},
		Territory{Name: "Coast", Team: 7}, Territory{Name: "Islands", Team: 9}
	for _, c := range []struct {
		name string
		is   Case
		reps []Rep
		want int64
		how  How
		last string
	}{
		{"the owner, full or not", Case{Owner: 1, Company: []int64{2}}, reps, 1, ByOwner, "Ana is their owner"},
		{"an owner who is away", Case{Owner: 4}, reps, 2, InTurn, "Bo is next in turn"},
		{"an owner who has no turns", Case{Owner: 5}, reps, 5, ByOwner, "Ed is their owner"},
		{"an owner who is no rep", Case{Owner: 77}, reps, 2, InTurn, "Bo is next in turn"},
		{"the longest wait with room, the lower ID among equals", Case{}, reps, 2, InTurn, "Bo is next in turn"},
		{"who has most others there, and is not away", Case{Company: []int64{77, 4, 1, 2}}, reps, 1, ByCompany,
			"Ana has others at their company"},
		{"a territory", Case{Places: []Territory{south, north}}, reps, 3, ByPlace, "Cy has the territory “North”"},
		{"a territory of a team", Case{Places: []Territory{empty, team}}, reps, 2, ByPlace,
			"Bo is next of those who have the territory “Coast”"},
		{"not who had them offered", Case{Owner: 1, Company: []int64{2}, Places: []Territory{north}, Not: []int64{1, 2, 3}},
			reps, 0, Pool, "nobody has room"},
		{"nobody has room", Case{}, reps[:1], 0, Pool, "nobody has room"},
		{"no reps at all", Case{Owner: 1}, nil, 0, Pool, "nobody has room"},
	} {
		got := Route(c.is, c.reps)
		if got.Rep != c.want || got.How != c.how || got.Why[len(got.Why)-1] != c.last {
			t.Errorf("%s: %+v, want %d %s", c.name, got, c.want, c.how)
		}
	}
	want := []string{"their owner, Di, is away", "no rep has others at their company",
		"Di, who has the territory “South”, is away", "nobody who has the territory “Islands” has room",
		"the territory “Old” is nobody’s who is a rep", "Bo is next in turn"}
	got := Route(Case{Owner: 4, Places: []Territory{south, empty, {Name: "Old", Rep: 70}}}, reps)
	if !slices.Equal(got.Why, want) {
		t.Errorf("why: %q", got.Why)
	}
}

// plainTurn is whose turn it is where all have room and began together: who has had the least for their weight, told
// from the counts alone.
func plainTurn(reps []Rep, had map[int64]int) int64 {
	best := reps[0]
	for _, r := range reps[1:] {
		// had/weight compared without dividing
		mine, theirs := had[r.ID]*best.Weight, had[best.ID]*r.Weight
		if mine < theirs || mine == theirs && (r.Last.Before(best.Last) || r.Last.Equal(best.Last) && r.ID < best.ID) {
			best = r
		}
	}
	return best.ID
}

// Turns follow the weights: after any number of them nobody is more than one turn from their share for each of the
// others, and each turn is whose it is by counting.
func TestTurnsByWeight(t *testing.T) {
	rnd := rand.New(rand.NewPCG(8, 8))
	for range 200 {
		var reps []Rep
		sum := 0
		for i := range 1 + rnd.IntN(5) {
			w := []int{1, 1, 2, 4, 8}[rnd.IntN(5)] // halves, so that the turns are exact
			reps, sum = append(reps, Rep{ID: int64(i + 1), Weight: w}), sum+w
		}
		had := map[int64]int{}
		for n := 1; n <= 4*sum; n++ {
			want := plainTurn(reps, had)
			got := Route(Case{}, reps).Rep
			if got != want {
				t.Fatalf("turn %d is of %d, by counting of %d\n%+v", n, got, want, reps)
			}
			had[got]++
			HadTurn(reps, got, t0.Add(time.Duration(n)*time.Minute))
			for _, r := range reps {
				if share := float64(n*r.Weight) / float64(sum); math.Abs(float64(had[r.ID])-share) > float64(len(reps)) {
					t.Fatalf("after %d turns %d has had %d, and their share is %.1f", n, r.ID, had[r.ID], share)
				}
			}
		}
		for _, r := range reps {
			if had[r.ID] != 4*r.Weight {
				t.Errorf("%d had %d turns, and their share is %d", r.ID, had[r.ID], 4*r.Weight)
			}
		}
	}
}

// Who comes back does not get all that they missed.
func TestTurnsAfterAWhileAway(t *testing.T) {
	reps := []Rep{{ID: 1, Weight: 1}, {ID: 2, Weight: 1, Away: true}}
	give := func(n int) map[int64]int {
		had := map[int64]int{}
		for range n {
			d := Route(Case{}, reps)
			had[d.Rep]++
			Given(reps, d.Rep, t0.Add(time.Duration(len(had))*time.Minute))
		}
		return had
	}
	give(50)
	reps[1].Away = false
	if had := give(10); had[1] < 4 || had[2] > 6 {
		t.Errorf("back again they had %v", had)
	}
	if reps[0].Open+reps[1].Open != 60 {
		t.Error("what is open is not counted")
	}
}

// The response clock: at its end the rep is reminded, then the lead told, then it is offered on, in working hours.
func TestClock(t *testing.T) {
	for name, c := range map[string]struct {
		is   Clock
		want []Tick
	}{
		"all of it":             {Clock{Respond: 4, Lead: 2, Next: 4}, []Tick{{4 * time.Hour, Remind}, {6 * time.Hour, TellLead}, {8 * time.Hour, OfferOn}}},
		"offered on first":      {Clock{Respond: 4, Lead: 8, Next: 1}, []Tick{{4 * time.Hour, Remind}, {5 * time.Hour, OfferOn}, {12 * time.Hour, TellLead}}},
		"both at one time":      {Clock{Respond: 4, Lead: 2, Next: 2, Silent: true}, []Tick{{6 * time.Hour, TellLead}, {6 * time.Hour, OfferOn}}},
		"only reminded":         {Clock{Respond: 1}, []Tick{{time.Hour, Remind}}},
		"nothing but the clock": {Clock{Respond: 1, Silent: true}, nil},
	} {
		if got := c.is.Ticks(); !slices.Equal(got, c.want) || c.is.Check() != nil {
			t.Errorf("%s: %v", name, got)
		}
	}
	for _, c := range []Clock{{}, {Respond: 81}, {Respond: 4, Lead: -1}, {Respond: 4, Next: 81}} {
		if c.Check() == nil {
			t.Errorf("%+v is taken", c)
		}
	}
}

func TestBrief(t *testing.T) {
	m := score.Model{Line: 15, Rules: []score.Rule{
		{On: signal.Pattern{Kind: signal.Open}, Points: 1, Lasts: 30},
		{On: signal.Pattern{Kind: signal.PageView}, Points: 10, Lasts: 30}}}
	list := []signal.Signal{{At: t0.Add(-40 * 24 * time.Hour), Kind: signal.PageView}, {At: t0, Kind: signal.Open},
		{At: t0, Kind: signal.PageView}, {At: t0.Add(time.Hour), Kind: signal.Open}}
	at := t0.Add(2 * time.Hour)
	b := NewBrief(&m, m.Ledger(nil, list, nil, at), list, at)
	if b.Score != 12 || len(b.Reasons) != 2 {
		t.Fatalf("%+v", b)
	}
	if s := b.Reasons[0].String(); s != "+10 for 1 × page view" {
		t.Errorf("largest first, without what ran out: %q", s)
	}
	if r := b.Reasons[1]; r.Times != 2 || !r.Last.Equal(t0.Add(time.Hour)) {
		t.Errorf("%+v", r)
	}
}

// Definition 1 of Hyndman and Fan (1996): quantiles of 1 to n, held against counting.
func TestQuantile(t *testing.T) {
	for n := 1; n <= 40; n++ {
		var list []time.Duration
		for i := range n {
			list = append(list, time.Duration(i/2+1)*time.Minute)
		}
		for _, p := range []struct {
			share    float64
			num, den int
		}{{0.5, 1, 2}, {0.9, 9, 10}, {0.1, 1, 10}, {1, 1, 1}} {
			var want time.Duration
			for _, x := range list { // the first that enough are not above
				below := 0
				for _, y := range list {
					if y <= x {
						below++
					}
				}
				if below*p.den >= p.num*n {
					want = x
					break
				}
			}
			if got := Quantile(list, p.share); got != want {
				t.Errorf("%v of %d: %v, want %v", p.share, n, got, want)
			}
		}
	}
	if Quantile(nil, 0.5) != 0 {
		t.Error("of nothing something")
	}
}

func TestTell(t *testing.T) {
	h := time.Hour
	groups, all := Tell([]Told{{"Bo", Open, 3 * h, ""}, {"Bo", Open, 9 * h, ""}, {"Ana", Accepted, h, ""},
		{"Ana", SentBack, 2 * h, "later"}, {"Ana", SentBack, 4 * h, "later"}, {"Ana", SentBack, 6 * h, "budget"}})
	if len(groups) != 2 || groups[1].Waiting != 2 || groups[1].Longest != 9*h || groups[1].Median != 0 ||
		groups[0].Answered() != 4 || groups[0].Median != 2*h || groups[0].Ninety != 6*h ||
		!slices.Equal(groups[0].Reasons, []Reasoned{{"later", 2}, {"budget", 1}}) {
		t.Errorf("%+v", groups)
	}
	if all.Waiting != 2 || all.Accepted != 1 || all.SentBack != 3 || all.Median != 2*h {
		t.Errorf("all: %+v", all)
	}
}
