package pipeline

import (
	"math"
	"math/rand/v2"
	"slices"
	"testing"
	"time"
)

// TestLearnAgainstThePlainWay goes through deals one at a time, and asks of each what it says of one stage.
func TestLearnAgainstThePlainWay(t *testing.T) {
	rnd := rand.New(rand.NewPCG(3, 81))
	stages := []Stage{{ID: 1, Share: 10}, {ID: 2, Share: 40}, {ID: 3, Won: true, Share: 100}, {ID: 4, Lost: true}, {ID: 5, Share: 7}}
	began := time.Date(2026, 1, 5, 9, 0, 0, 0, time.UTC)
	now := began.AddDate(0, 6, 0)
	for range 300 {
		var tracks []Track
		var deals [][]Track
		for d := range rnd.IntN(30) {
			at, deal := began, []Track(nil)
			for range 1 + rnd.IntN(5) {
				s := stages[rnd.IntN(4)]
				at = at.Add(time.Duration(rnd.IntN(20)) * 24 * time.Hour)
				deal = append(deal, Track{int64(100 - d), s.ID, at, s.Won, s.Lost})
			}
			deals, tracks = append(deals, deal), append(tracks, deal...)
		}
		for i, got := range Learn(stages, tracks, now) {
			s := stages[i]
			var came, stayed []Stay
			var of, took []time.Duration
			for _, deal := range deals {
				last := deal[len(deal)-1]
				for k, x := range deal {
					if x.Stage != s.ID || s.Closed() {
						continue
					}
					until, moved := now, k+1 < len(deal)
					if moved {
						until = deal[k+1].At
					}
					stay := Stay{until.Sub(x.At), GoesOn}
					if moved {
						stay.End = MovedOn
					}
					stayed = append(stayed, stay)
					if moved && last.Won {
						of = append(of, until.Sub(x.At))
					}
					before := slices.ContainsFunc(deal[:k], func(y Track) bool { return y.Stage == s.ID })
					switch {
					case before:
					case last.Won:
						came, took = append(came, Stay{last.At.Sub(x.At), Won}), append(took, last.At.Sub(x.At))
					case last.Lost:
						came = append(came, Stay{last.At.Sub(x.At), Lost})
					default:
						came = append(came, Stay{now.Sub(x.At), GoesOn})
					}
				}
			}
			slices.Sort(took)
			share := float64(s.Share) / 100
			known := redistributed(came, Won, now.Sub(began))
			if n := float64(len(came)); n >= 20 {
				share = known
			} else if n > 0 {
				share = (20*share + n*known) / (20 + n)
			}
			median, _ := Staying(stayed).Median()
			if math.Abs(got.Chance.Share-share) > 1e-9 || got.Chance.Deals != len(came) || got.Stays != len(stayed) ||
				got.Median != median || got.Slow != Quantile(of, 0.8) || !slices.Equal(got.Took, took) {
				t.Fatalf("stage %d: %+v, plainly %v of %d\n%+v", s.ID, got, share, len(came), tracks)
			}
		}
	}
}
