package pipeline

import (
	"slices"
	"time"
)

// Figures are what deals that came into a stage have taught.
type Figures struct {
	Stage
	Chance Chance
	Median time.Duration   // that a deal stays in it; 0: not known
	Slow   time.Duration   // longer than four fifths of those won stayed; 0: not known
	Took   []time.Duration // from coming into it until they were won, the shortest first
	Stays  int             // that Median rests on
}

// Track is that a deal came into a stage.
type Track struct {
	Deal, Stage int64
	At          time.Time
	Won, Lost   bool // the stage is that of deals that are won, or lost
}

// Learn reads out of the moves of deals, each deal's in its order, what they say of the stages.
func Learn(stages []Stage, tracks []Track, now time.Time) []Figures {
	ends, stays := map[int64][]Stay{}, map[int64][]Stay{}
	of, took := map[int64][]time.Duration{}, map[int64][]time.Duration{}
	for i := 0; i < len(tracks); {
		j := i
		for j < len(tracks) && tracks[j].Deal == tracks[i].Deal {
			j++
		}
		deal := tracks[i:j]
		i = j
		end, over := GoesOn, now
		if last := deal[len(deal)-1]; last.Won || last.Lost {
			over = last.At
			if end = Lost; last.Won {
				end = Won
			}
		}
		first := map[int64]bool{}
		for k, t := range deal {
			if t.Won || t.Lost {
				continue
			}
			if !first[t.Stage] { // each deal counts once for a stage, from when it first came
				first[t.Stage] = true
				ends[t.Stage] = append(ends[t.Stage], Stay{For: over.Sub(t.At), End: end})
				if end == Won {
					took[t.Stage] = append(took[t.Stage], over.Sub(t.At))
				}
			}
			s := Stay{For: now.Sub(t.At), End: GoesOn}
			if k+1 < len(deal) {
				s = Stay{For: deal[k+1].At.Sub(t.At), End: MovedOn}
				if end == Won {
					of[t.Stage] = append(of[t.Stage], s.For)
				}
			}
			stays[t.Stage] = append(stays[t.Stage], s)
		}
	}
	out := make([]Figures, 0, len(stages))
	for _, s := range stages {
		slices.Sort(took[s.ID])
		f := Figures{Stage: s, Chance: ChanceOf(ends[s.ID], s.Share), Took: took[s.ID],
			Slow: Quantile(of[s.ID], 0.8), Stays: len(stays[s.ID])}
		f.Median, _ = Staying(stays[s.ID]).Median()
		out = append(out, f)
	}
	return out
}
