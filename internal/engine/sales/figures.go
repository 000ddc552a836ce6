package sales

import (
	"context"
	"slices"

	"ombak/internal/core/handoff"
	"ombak/internal/core/plainly"
	"ombak/internal/engine/base"
	"ombak/internal/store"
)

// By is what handoffs are counted by.
type By string

// The ways to count them.
const (
	ByRep      By = "rep"
	BySource   By = "source"
	BySequence By = "sequence"
)

// Bys lists them.
func Bys() []By { return []By{ByRep, BySource, BySequence} }

// mostTold is how many handoffs are counted at most.
const mostTold = 20_000

// HandoffFigures are what became of handoffs.
type HandoffFigures struct {
	Groups []handoff.Figures
	All    handoff.Figures
	List   []HandoffLine
	Cut    bool // there are more than are counted
}

// HandoffLine is one of them, with how it is counted.
type HandoffLine struct {
	store.ToldHandoff
	handoff.Told
}

// HandoffFigures counts those that wait, and those that were answered in the last so many days. Time is that which the
// rep works, by their own hours.
func (e *Sales) HandoffFigures(ctx context.Context, by By, days int) (f HandoffFigures, err error) {
	if !slices.Contains(Bys(), by) || days < 1 || days > 3660 {
		return f, plainly.New("handoffs are counted by rep, source or sequence, over 1 to 3660 days")
	}
	return base.Lately(ctx, e.Base, &e.handed, handedKey{by, days}, func(ctx context.Context) (HandoffFigures, error) {
		return e.countHandoffs(ctx, by, days)
	})
}

// handedKey is by what handoffs are counted, and over how many days.
type handedKey struct {
	by   By
	days int
}

func (e *Sales) countHandoffs(ctx context.Context, by By, days int) (f HandoffFigures, err error) {
	now := e.Now()
	list, err := e.Store.HandoffsSince(ctx, now.AddDate(0, 0, -days), mostTold+1)
	if err != nil {
		return f, err
	}
	if f.Cut = len(list) > mostTold; f.Cut {
		list = list[:mostTold]
	}
	own := map[int64]works{}
	told := make([]handoff.Told, len(list))
	for i, h := range list {
		rep := int64(0)
		if h.Rep != nil {
			rep = *h.Rep
		}
		w, ok := own[rep]
		if !ok {
			if w, err = e.worksOf(ctx, rep); err != nil {
				return f, err
			}
			own[rep] = w
		}
		end := now
		if h.Decided != nil {
			end = *h.Decided
		}
		t := handoff.Told{State: h.State, Reason: h.Reason, Took: w.hours.Between(h.Made, end, w.zone)}
		switch by {
		case ByRep:
			t.Of = h.RepName
		case BySource:
			t.Of = h.Source
		default:
			t.Of = h.Sequence
		}
		told[i] = t
		f.List = append(f.List, HandoffLine{h, t})
	}
	f.Groups, f.All = handoff.Tell(told)
	return f, nil
}
