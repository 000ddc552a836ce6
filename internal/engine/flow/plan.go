package flow

import (
	"context"

	"ombak/internal/core/calendar"
	"ombak/internal/core/person"
	"ombak/internal/core/plainly"
	"ombak/internal/core/sequence"
	"ombak/internal/engine/base"
	"ombak/internal/store"
)

// ErrNameSequence is answered to a sequence without a name.
var ErrNameSequence = plainly.New("give the sequence a name first")

// ErrChanged is answered where what was to be changed was changed in another place
// since it was read.
var ErrChanged = plainly.New("it was changed in another place meanwhile")

// EditPlan makes a change to state n of a sequence's draft. It answers the step to
// look at next, and ErrChanged where the draft is not in state n any more.
func (e *Flow) EditPlan(ctx context.Context, id int64, n int, edit sequence.Edit) (step sequence.StepID, err error) {
	err = e.Store.InTx(ctx, func(tx store.Tx) error {
		step, err = e.editPlan(ctx, tx, id, n, edit)
		return err
	})
	return step, err
}

func (e *Flow) editPlan(
	ctx context.Context, tx store.Tx, id int64, n int, edit sequence.Edit,
) (sequence.StepID, error) {
	draft, err := tx.LockDraft(ctx, id)
	if err != nil {
		return 0, err
	}
	if draft.N != n {
		return 0, ErrChanged
	}
	what, step, err := edit.Apply(draft.Plan.V)
	if err != nil {
		return 0, err
	}
	saved, err := tx.SaveDraft(ctx, id, n, draft.Plan.V, what, e.Now())
	if err == nil && !saved {
		err = ErrChanged
	}
	return step, err
}

// SequenceSettings is what a sequence is called, who enters it, and what holds for
// its plan as a whole.
type SequenceSettings struct {
	Name  string
	Note  string // what it is for
	Entry store.Entry
	Plan  sequence.ChangePlan
}

// SetSequence keeps the settings of a sequence whose draft is in state n, as EditPlan
// does. Who enters holds from the next launch on.
func (e *Flow) SetSequence(ctx context.Context, id int64, n int, x SequenceSettings) error {
	if x.Name = person.Name(x.Name); x.Name == "" {
		return ErrNameSequence
	}
	if err := x.Entry.Check(); err != nil {
		return err
	}
	return e.Store.InTx(ctx, func(tx store.Tx) error {
		if _, err := e.editPlan(ctx, tx, id, n, x.Plan); err != nil {
			return err
		}
		return tx.SetSequence(ctx, id, x.Name, base.Cut(x.Note, 500), x.Entry, e.Now())
	})
}

// MoveDraft undoes (by −1) or redoes (by 1) what was done to a sequence's draft;
// false: there is nothing more.
func (e *Flow) MoveDraft(ctx context.Context, id int64, by int) (moved bool, err error) {
	err = e.Store.InTx(ctx, func(tx store.Tx) error {
		moved, err = tx.MoveDraft(ctx, id, by, e.Now())
		return err
	})
	return moved, err
}

// AddSequence begins a sequence, as an empty draft in the workspace's working hours.
func (e *Flow) AddSequence(ctx context.Context, name string) (id int64, err error) {
	return e.BeginSequence(ctx, name, "")
}

// BeginSequence begins a sequence with the plan of a starter, by its key; with none it is
// empty. It keeps the workspace's working hours.
func (e *Flow) BeginSequence(ctx context.Context, name, starter string) (id int64, err error) {
	plan, note := sequence.NewPlan(), ""
	if s, ok := sequence.StarterOf(starter); ok {
		plan, note = s.Plan(), s.For
		if name == "" {
			name = s.Name
		}
	}
	if name = person.Name(name); name == "" {
		return 0, ErrNameSequence
	}
	plan = e.freshPlan(plan)
	err = e.Store.InTx(ctx, func(tx store.Tx) error {
		if id, err = tx.AddSequence(ctx, name, plan, e.Now()); err != nil {
			return err
		}
		return tx.SetSequence(ctx, id, name, note, store.Entry{}, e.Now())
	})
	return id, err
}

// freshPlan gives a plan what new ones begin with here.
func (e *Flow) freshPlan(plan *sequence.Plan) *sequence.Plan {
	w := e.Workspace()
	if plan.Hours = calendar.OfficeHours(w.From, w.To); w.Sending != nil {
		plan.Hours = *w.Sending
	}
	if plan.Rest.Days == 0 {
		plan.Rest = w.Rest
	}
	plan.LaunchHold = plan.LaunchHold && !w.NoHold
	return plan
}
