package flow

import (
	"context"
	"fmt"
	"maps"
	"slices"

	"ombak/internal/core/sequence"
	"ombak/internal/store"
)

// Warnings lists what of a sequence's draft may be meant otherwise. None of it keeps it from
// being launched.
func (e *Flow) Warnings(ctx context.Context, q store.Sequence, p *sequence.Plan) ([]sequence.Problem, error) {
	ids, _ := p.Events()
	events, err := e.Store.EventsByID(ctx, ids)
	if err != nil {
		return nil, err
	}
	out := p.Warn(e.Now(), e.Zone(), events)
	running, err := e.runningPlans(ctx)
	if err != nil {
		return nil, err
	}
	if writes := writesByItself(p); writes && p.Rest.Days == 0 {
		var also []string
		for _, r := range running {
			if r.Sequence != q.ID && writesByItself(r.Plan.V) && r.Plan.V.Rest.Days == 0 &&
				!slices.Contains(q.Entry.V.NotOn, r.Sequence) && !slices.Contains(r.Entry.V.NotOn, q.ID) {
				also = append(also, "“"+r.Name+"”")
			}
		}
		if n := len(also); n > 0 {
			text := also[0]
			if n > 1 {
				text = fmt.Sprintf("%s and %d more", also[0], n-1)
			}
			out = append(out, sequence.Problem{Text: "somebody can be on it and on " + text +
				" at once, and get emails of both on one day: leave out who is there, or set a rest"})
		}
	}
	return append(out, circles(q, p, running)...), nil
}

// runningPlans are what runs, or is held. Plans are read once: with fifty of them that takes longer than all else.
func (e *Flow) runningPlans(ctx context.Context) ([]store.RunningPlan, error) {
	e.running.Lock()
	known := e.running.plans // it is replaced, and never changed
	e.running.Unlock()
	list, err := e.Store.RunningPlans(ctx, slices.Collect(maps.Keys(known)))
	if err != nil {
		return nil, err
	}
	plans := make(map[int64]*sequence.Plan, len(list))
	for i := range list {
		r := &list[i]
		if r.Plan.V == nil {
			r.Plan.V = known[r.Version]
		}
		plans[r.Version] = r.Plan.V
	}
	e.running.Lock()
	e.running.plans = plans
	e.running.Unlock()
	return list, nil
}

// writesByItself reports whether a plan reaches people other than by their own request.
func writesByItself(p *sequence.Plan) bool {
	return slices.ContainsFunc(p.Steps, func(s sequence.Step) bool {
		_, email := p.RestsAfter(s.About().ID)
		return email
	})
}

// circles finds that the sequences which a plan goes on to lead back to it.
func circles(q store.Sequence, p *sequence.Plan, running []store.RunningPlan) (out []sequence.Problem) {
	plans := map[int64]*sequence.Plan{q.ID: p}
	names := map[int64]string{}
	for _, r := range running {
		if r.Sequence != q.ID {
			plans[r.Sequence], names[r.Sequence] = r.Plan.V, r.Name
		}
	}
	goesOn := func(p *sequence.Plan) (out []sequence.Part) {
		if p == nil {
			return nil
		}
		for _, part := range p.Parts() {
			if part.What == sequence.SequencePart && part.ID != 0 {
				out = append(out, part)
			}
		}
		return out
	}
	for _, first := range goesOn(p) {
		seen := map[int64]bool{}
		for next := []int64{first.ID}; len(next) > 0; next = next[1:] {
			id := next[0]
			if id == q.ID {
				text := "goes on to this sequence itself"
				if first.ID != q.ID {
					text = fmt.Sprintf("goes on to “%s”, which leads back here", names[first.ID])
				}
				out = append(out, sequence.Problem{Step: first.Step, Text: text})
				break
			}
			if seen[id] {
				continue
			}
			seen[id] = true
			for _, part := range goesOn(plans[id]) {
				next = append(next, part.ID)
			}
		}
	}
	return out
}
