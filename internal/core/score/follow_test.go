package score

import (
	"math/rand/v2"
	"testing"
	"time"

	"ombak/internal/core/act"
	"ombak/internal/core/rule"
	"ombak/internal/core/signal"
)

func TestFollows(t *testing.T) {
	tagged := []act.Kept{{Act: act.Tag{Name: "warm"}}}
	m := Model{Name: "m", Line: 15, Bands: []rule.Band{{Name: "low"}, {Name: "warm", From: 10}}}
	for name, c := range map[string]struct {
		f     Follow
		level int
		known bool
		good  bool
	}{
		"the ready line":    {Follow{Acts: tagged}, 0, false, true},
		"a band":            {Follow{Band: "warm", Acts: tagged}, 10, true, true},
		"a number":          {Follow{At: 25, Acts: tagged}, 25, true, true},
		"a band of none":    {Follow{Band: "hot", Acts: tagged}, 0, false, false},
		"below the floor":   {Follow{At: -1, Acts: tagged}, -1, true, false},
		"nothing":           {Follow{At: 5}, 5, true, false},
		"too much":          {Follow{At: 5, Acts: make([]act.Kept, 11)}, 5, true, false},
		"an act of nothing": {Follow{At: 5, Acts: []act.Kept{{}}}, 5, true, false},
		"an empty tag":      {Follow{At: 5, Acts: []act.Kept{{Act: act.Tag{}}}}, 5, true, false},
		"points":            {Follow{At: 5, Acts: []act.Kept{{Act: act.Points{N: 3}}}}, 5, true, false},
	} {
		level, known := c.f.Level(&m)
		if err := c.f.Check(&m); level != c.level || known != c.known || (err == nil) != c.good ||
			c.f.OfLine() != (name == "the ready line") {
			t.Errorf("%s: level %d, %v; %v", name, level, known, err)
		}
	}
	m.Follows = make([]Follow, MaxFollows+1)
	if m.Check(nil) == nil {
		t.Error("something follows from many levels")
	}
	m.Follows = []Follow{{}}
	if m.Check(nil) == nil {
		t.Error("nothing follows")
	}
	was := m.Clone()
	was.Follows = nil
	m.Follows = []Follow{{Acts: tagged}, {At: 25, Acts: []act.Kept{{Act: act.Include{Audience: 3}}, tagged[0]}}}
	want := Difference{"nothing follows", "who comes to the ready line: tag them “warm”; who comes to 25 points: put them " +
		"into, tag them “warm”"}
	if got := Differences(&was, &m, nil); len(got) != 1 || got[0] != want {
		t.Errorf("it says otherwise %q", got)
	}
}

// TestComesAgainstThePlainWay looks at every instant at which something can happen, and asks when a level was last come
// to from below.
func TestComesAgainstThePlainWay(t *testing.T) {
	rnd := rand.New(rand.NewPCG(10, 10))
	came := 0
	for range 500 {
		m, w := anyModel(rnd, false), anybody(rnd)
		level := 1 + rnd.IntN(9)
		from, to := day0.Add(-time.Hour), day0.AddDate(0, 0, 12)
		var want time.Time
		before := m.Shown(0)
		for _, at := range append([]time.Time{from}, edges(w, from, to)...) {
			now := plainScore(&m, w, at)
			if before < float64(level) && now >= float64(level) {
				want = at
			}
			before = now
		}
		got, comes := m.Comes(m.Ledger(nil, w.signals, w, to), level, from, to, m.Shown(0))
		if comes {
			came++
		}
		if comes == want.IsZero() || comes && !got.Equal(want) {
			t.Fatalf("came to %d at %v (%v), plainly at %v\n%+v\n%+v", level, got, comes, want, m, w)
		}
	}
	if came < 100 {
		t.Errorf("only %d came", came)
	}
}

// What follows refers to audiences and sequences by name where a model goes elsewhere, and to users not at all.
func TestFollowsInFiles(t *testing.T) {
	here := &rule.Catalogue{Audiences: []rule.Named{{ID: 3, Name: "Warm"}}}
	m := Model{Name: "m", LastID: 1, Rules: []Rule{{ID: 1, On: on(signal.Open), Points: 1}},
		Follows: []Follow{{At: 5, Acts: []act.Kept{{Act: act.Include{Audience: 3}}, {Act: act.Task{Words: "call", To: 9}}}}}}
	f := NewFile(m.Clone(), here)
	got, err := f.In(&rule.Catalogue{Audiences: []rule.Named{{ID: 8, Name: "warm"}}})
	if err != nil || got.Follows[0].Acts[0].Act != (act.Include{Audience: 8}) ||
		got.Follows[0].Acts[1].Act != (act.Task{Words: "call"}) {
		t.Errorf("elsewhere %+v follows, %v", got.Follows, err)
	}
	if m.Follows[0].Acts[0].Act != (act.Include{Audience: 3}) {
		t.Error("the model here has changed")
	}
	if _, err := NewFile(m.Clone(), here).In(&rule.Catalogue{}); err == nil {
		t.Error("an audience that is not there")
	}
}
