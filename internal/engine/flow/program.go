package flow

import (
	"context"
	"log/slog"
	"time"

	"ombak/internal/core/calendar"
	"ombak/internal/core/sequence"
	"ombak/internal/store"
)

// program is a launched version ready to run.
type program struct {
	*sequence.Program
	messages map[int64]int
	goesOn   []int64 // the sequences that its steps go on to
	events   []int64 // that its steps are reckoned from
	asks     []int64 // the purposes that single emails ask a consent to
}

// how says which step does something, as a person's history keeps it.
func (p *program) how(id sequence.StepID) string {
	if s := p.Plan().Step(id); s != nil {
		return "step “" + s.About().Title + "”"
	}
	return "a step"
}

// programsOf readies the versions that some enrolments are on.
func (e *Flow) programsOf(ctx context.Context, tx store.Tx, claimed []store.Claimed) (map[int64]*program, error) {
	out := map[int64]*program{}
	var missing []int64
	for i := range claimed {
		v := claimed[i].Version
		if _, ok := out[v]; ok {
			continue
		}
		if p, ok := e.programs.Load(v); ok {
			out[v] = p.(*program)
			continue
		}
		out[v] = nil
		missing = append(missing, v)
	}
	if len(missing) == 0 {
		return out, nil
	}
	versions, err := tx.Versions(ctx, missing)
	if err != nil {
		return nil, err
	}
	for _, v := range versions {
		var hold time.Time
		if v.Hold != nil {
			hold = *v.Hold
		}
		pr, err := sequence.Compile(v.Plan.V, v.Sequence, hold, calendar.Working{})
		if err != nil {
			slog.Error("a launched version cannot run", "version", v.ID, "error", err)
			continue // those who are on it are put off, each for itself
		}
		p := &program{Program: pr, messages: v.Messages.V}
		p.events, _ = v.Plan.V.Events()
		p.asks = v.Plan.V.OwnPurposes()
		for _, part := range v.Plan.V.Parts() {
			if part.What == sequence.SequencePart {
				p.goesOn = append(p.goesOn, part.ID)
			}
		}
		e.programs.Store(v.ID, p) // a version never changes
		out[v.ID] = p
	}
	return out, nil
}

// PlanOf is the plan of a launched version, which nobody may change.
func (e *Flow) PlanOf(ctx context.Context, q store.Queries, version int64) (*sequence.Plan, error) {
	plans, err := e.PlansOf(ctx, q, []int64{version})
	if err == nil && plans[version] == nil {
		err = store.ErrNotFound
	}
	return plans[version], err
}

// PlansOf are the plans of some launched versions, which nobody may change. They are read once: a version never
// changes, and a desk asks for the same ones with every item.
func (e *Flow) PlansOf(ctx context.Context, q store.Queries, versions []int64) (map[int64]*sequence.Plan, error) {
	out := make(map[int64]*sequence.Plan, len(versions))
	var missing []int64
	for _, v := range versions {
		if p, ok := e.plans.Load(v); ok {
			out[v] = p.(*sequence.Plan)
		} else if _, asked := out[v]; !asked {
			out[v] = nil
			missing = append(missing, v)
		}
	}
	if len(missing) == 0 {
		return out, nil
	}
	list, err := q.Versions(ctx, missing)
	for i := range list {
		p, _ := e.plans.LoadOrStore(list[i].ID, list[i].Plan.V)
		out[list[i].ID] = p.(*sequence.Plan)
	}
	return out, err
}
