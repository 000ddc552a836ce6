package demo

import (
	"context"
	"fmt"
	"math"
	"time"

	"ombak/internal/core/handoff"
	"ombak/internal/core/signal"
	"ombak/internal/standin/readers"
	"ombak/internal/store"
)

// keepPeople keeps everybody, and a year of what they did before began.
func keepPeople(
	ctx context.Context, st *store.Store, s *scenario, ids []int64, seed uint64, began time.Time,
) ([]int64, error) {
	year := began.AddDate(-1, 0, 0)
	var people []int64
	var past []store.Signal
	met := make([]time.Time, len(s.people))
	for i := range met {
		// More and more people come, as the market wakes.
		met[i] = year.Add(time.Duration(math.Sqrt(s.rnd.Float64()) * float64(began.Sub(year)-48*time.Hour))).Truncate(
			time.Second)
	}
	err := st.InTx(ctx, func(tx store.Tx) error {
		people, past = nil, nil
		for i, p := range s.people {
			id, _, err := tx.MeetPerson(ctx, p, met[i])
			if err != nil {
				return err
			}
			people = append(people, id)
		}
		if err := tx.DemoRecords(ctx, people, ownersOf(s, ids)); err != nil {
			return err
		}
		for i, p := range s.people {
			past = append(past, s.lived(people[i], readers.Of(seed, p.Email), met[i], began)...)
		}
		for len(past) > 0 {
			n := min(len(past), 5000)
			if err := tx.AddSignals(ctx, past[:n]); err != nil {
				return err
			}
			past = past[n:]
		}
		return nil
	})
	return people, err
}

func ownersOf(s *scenario, ids []int64) []int64 {
	out := make([]int64, len(s.owners))
	for i, o := range s.owners {
		if o >= 0 {
			out[i] = ids[o]
		}
	}
	return out
}

// lived is what one person did between two instants, by their temperament:
// bursts of a few days in which one thing leads to another.
func (s *scenario) lived(person int64, t readers.Temperament, from, to time.Time) []store.Signal {
	bursts := map[readers.Temperament]int{readers.Silent: 1, readers.Glancer: 4, readers.Curious: 7, readers.Keen: 10,
		readers.Talker: 7, readers.Fed: 2}[t]
	clicks := map[readers.Temperament]int{readers.Glancer: 10, readers.Curious: 35, readers.Keen: 60,
		readers.Talker: 35}[t]
	var out []store.Signal
	add := func(at time.Time, k signal.Kind, detail string) {
		if at.Before(to) {
			out = append(out, store.Signal{Person: person, Detail: detail, Signal: signal.Signal{At: at, Kind: k}})
		}
	}
	for range s.rnd.IntN(bursts + 1) {
		at := from.Add(time.Duration(s.rnd.Float64() * float64(to.Sub(from)))).Truncate(time.Second)
		add(at, signal.Open, "")
		if s.rnd.IntN(100) < 30 {
			add(at.Add(time.Duration(s.rnd.IntN(40))*time.Hour), signal.Open, "")
		}
		if s.rnd.IntN(100) < clicks {
			add(at.Add(2*time.Minute), signal.Click, subjects[s.rnd.IntN(len(subjects))])
			if s.rnd.IntN(100) < 35 {
				add(at.Add(3*time.Minute), signal.PageView, subjects[s.rnd.IntN(len(subjects))])
			}
			if s.rnd.IntN(100) < 12 {
				add(at.Add(9*time.Minute), signal.Form, subjects[s.rnd.IntN(len(subjects))])
			}
		}
	}
	return out
}

var subjects = []string{"Calibration clinic", "Field guide to dissolved-oxygen alarms", "30-day buoy loan",
	"Winter moorings", "What a night without oxygen costs"}

// elsewhere is what people do in a day that no sequence had them do: they read
// the newsletter, come back to a page.
func (s *scenario) elsewhere(people []int64, seed uint64, morning time.Time, n int) []store.Signal {
	var out []store.Signal
	for range n {
		i := s.rnd.IntN(len(people))
		t := readers.Of(seed, s.people[i].Email)
		if t == readers.Silent || t == readers.Fed {
			continue
		}
		at := morning.Add(time.Duration(s.rnd.IntN(24*3600)) * time.Second)
		add := func(k signal.Kind, after time.Duration, detail string) {
			out = append(out,
				store.Signal{Person: people[i], Detail: detail, Signal: signal.Signal{At: at.Add(after), Kind: k}})
		}
		add(signal.Open, 0, "")
		if x := s.rnd.IntN(100); t != readers.Glancer && x < 40 {
			add(signal.Click, time.Minute, subjects[s.rnd.IntN(len(subjects))])
			if x < 7 {
				add(signal.PageView, 2*time.Minute, subjects[s.rnd.IntN(len(subjects))])
			}
		}
	}
	return out
}

var reasons = []string{"No budget before summer", "Wrong person: looks after the website",
	"Studies, wants to read only", "Has just bought elsewhere", "Asked to be called in autumn"}

// wayTo is by which stages the n-th deal of the past came to where it stands: all those before it; one that was lost
// went as far as it went.
func wayTo(n, stage int, stages []int64, opened, moved time.Time) (way []store.PastMove) {
	before := min(stage, 4)
	if stage == 5 {
		before = 1 + n*7%4
	}
	for i := range before {
		share := float64(i) / float64(before)
		at := opened.Add(time.Duration(share * float64(moved.Sub(opened))))
		way = append(way, store.PastMove{Stage: stages[i], At: at})
	}
	return way
}

// moneyOf is the currency of the n-th deal of the past.
func moneyOf(n int) string {
	switch {
	case n%6 == 1:
		return "NOK"
	case n%9 == 2:
		return "AUD"
	}
	return "EUR"
}

// perEuro is about what a hundred euros are worth in other currencies; rates of the demo are invented.
var perEuro = map[string]int64{"EUR": 100, "NOK": 1160, "AUD": 165}

// keepDeals keeps handoffs and deals of the past year for people who had
// reason to be handed over.
func keepDeals(
	ctx context.Context, st *store.Store, s *scenario, people, ids []int64, stageIDs []int64, began time.Time,
) error {
	reps := []int64{ids[1], ids[4], ids[5]}
	return st.InTx(ctx, func(tx store.Tx) error {
		perm := s.rnd.Perm(len(people))
		for n := range 150 {
			person, rep := people[perm[n]], reps[n%3]
			made := began.Add(-time.Duration(3+
				s.rnd.IntN(320)) * 24 * time.Hour).Add(time.Duration(s.rnd.IntN(9*60)) * time.Minute)
			brief := handoff.Brief{Score: float64(15 + s.rnd.IntN(12)), Line: 15, Reasons: []handoff.Reason{
				{Points: 10, Times: 1, Kind: "page view", Last: made.Add(-2 * time.Hour)},
				{Points: 3, Times: 1, Kind: "click", Last: made.Add(-3 * time.Hour)},
				{Points: 2, Times: 2, Kind: "open", Last: made.Add(-3 * time.Hour)}}}
			h := store.PastHandoff{Person: person, Rep: rep, Brief: brief, Made: made,
				Decided: made.Add(time.Duration(30+s.rnd.IntN(2000)) * time.Minute), State: "accepted"}
			if n%4 == 3 {
				h.State, h.Reason = "sent back", reasons[s.rnd.IntN(len(reasons))]
			} else {
				// The longer ago, the further along; most of what is old is won or lost.
				age := began.Sub(made).Hours() / 24
				stage := min(int(age/28)+s.rnd.IntN(2), 3)
				if age > 75 {
					stage = 4 + s.rnd.IntN(5)/3
				}
				h.Stage = stageIDs[stage]
				h.Moved = made.Add(time.Duration(float64(began.Sub(made)) * (0.3 + 0.6*s.rnd.Float64())))
				h.Closed = stage >= 4
				if h.Closed && n%3 == 0 {
					h.Moved = began.Add(-time.Duration(s.rnd.IntN(10*24)) * time.Hour)
				}
				h.Amount = int64(40+s.rnd.IntN(460)) * 100 * 100
				h.Currency = moneyOf(n)
				h.Amount = h.Amount * perEuro[h.Currency] / 100
				h.Way = wayTo(n, stage, stageIDs, h.Decided, h.Moved)
			}
			if err := tx.AddPastHandoff(ctx, h); err != nil {
				return fmt.Errorf("keeping a past handoff: %w", err)
			}
		}
		return tx.RateDeals(ctx, nil, "EUR", time.UTC, began)
	})
}
