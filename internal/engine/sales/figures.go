package sales

import (
	"context"
	"maps"
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
	List   []CountedLine // the newest first
	Cut    bool          // there are more than are counted
}

// CountedLine is one of them, as it was counted: tens of thousands of them are kept for a while.
type CountedLine struct {
	ID int64
	handoff.Told
}

// HandoffLine is one of them, with whom it is about.
type HandoffLine struct {
	store.ToldHandoff
	handoff.Told
}

// HandoffLines reads whom some of those that were counted are about, in their order. Who is there no more is left out.
func (e *Sales) HandoffLines(ctx context.Context, counted []CountedLine) ([]HandoffLine, error) {
	ids := make([]int64, len(counted))
	for i := range counted {
		ids[i] = counted[i].ID
	}
	list, err := e.Store.ToldHandoffs(ctx, ids)
	if err != nil {
		return nil, err
	}
	told := map[int64]store.ToldHandoff{}
	for _, h := range list {
		told[h.ID] = h
	}
	var out []HandoffLine
	for _, c := range counted {
		if h, ok := told[c.ID]; ok {
			out = append(out, HandoffLine{h, c.Told})
		}
	}
	return out, nil
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
	ids := map[int64]bool{}
	for i := range list {
		if r := list[i].Rep; r != nil {
			ids[*r] = true
		}
	}
	own, err := e.worksOfSome(ctx, slices.Collect(maps.Keys(ids)))
	if err != nil {
		return f, err
	}
	nobodys := works{e.Hours(), e.Zone()}
	words := map[string]string{} // each once, and not once for each of thousands
	once := func(s string) string {
		if _, ok := words[s]; !ok {
			words[s] = s
		}
		return words[s]
	}
	told := make([]handoff.Told, len(list))
	f.List = make([]CountedLine, len(list))
	for i, h := range list {
		w := nobodys
		if h.Rep != nil {
			w = own[*h.Rep]
		}
		end := now
		if h.Decided != nil {
			end = *h.Decided
		}
		t := handoff.Told{State: handoff.State(once(string(h.State))), Reason: once(h.Reason),
			Took: w.hours.Between(h.Made, end, w.zone)}
		switch by {
		case ByRep:
			t.Of = once(h.RepName)
		case BySource:
			t.Of = once(h.Source)
		default:
			t.Of = once(h.Sequence)
		}
		told[i], f.List[i] = t, CountedLine{h.ID, t}
	}
	f.Groups, f.All = handoff.Tell(told)
	return f, nil
}
