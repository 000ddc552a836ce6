package engine

import (
	"context"
	"errors"
	"fmt"

	"ombak/internal/core/calendar"
	"ombak/internal/core/sequence"
	"ombak/internal/store"
)

// Unready says why a sequence cannot be launched.
type Unready struct{ Problems []sequence.Problem }

func (u *Unready) Error() string {
	return fmt.Sprintf("it cannot be launched yet: %s", u.Problems[0].Text)
}

// Problems lists what keeps the draft of a sequence from being launched: the
// plan's own faults, who enters, and messages that are not there or that no
// reader could get.
func (e *Engine) Problems(ctx context.Context, q store.Sequence, p *sequence.Plan) ([]sequence.Problem, error) {
	problems := p.Check()
	entry := q.Entry.V
	if entry.Page == 0 && (entry.Rule == nil || !entry.Rule.Asks()) {
		problems = append(problems, sequence.Problem{Text: "nobody enters yet: choose a form or an audience"})
	}
	if entry.Rule != nil {
		if err := entry.Rule.Check(nil); err != nil {
			problems = append(problems, sequence.Problem{Text: "who enters: " + err.Error()})
		}
	}
	fields, err := e.Fields(ctx)
	if err != nil {
		return nil, err
	}
	for _, s := range p.Steps {
		mail, ok := s.(*sequence.Email)
		if !ok || mail.Message == 0 {
			continue
		}
		m, err := e.Store.Message(ctx, mail.Message)
		if store.IsNotFound(err) {
			problems = append(problems, sequence.Problem{Step: mail.ID, Text: "its message is not there any more"})
			continue
		}
		if err != nil {
			return nil, err
		}
		if m.Version == 0 {
			problems = append(problems, sequence.Problem{Step: mail.ID, Text: fmt.Sprintf("“%s” is a draft that was not kept yet", m.Name)})
			continue
		}
		if err := m.Doc.V.Check(fields); err != nil {
			problems = append(problems, sequence.Problem{Step: mail.ID, Text: fmt.Sprintf("“%s”: %v", m.Name, err)})
		}
	}
	return problems, nil
}

// Launch makes the draft of a sequence its next running version. People who
// are on the way stay on the version they entered, or, with move, go on with
// the new one at the same step where that is still there.
func (e *Engine) Launch(ctx context.Context, id, user int64, move bool) error {
	q, err := e.Store.Sequence(ctx, id)
	if err != nil {
		return err
	}
	draft, err := e.Store.Draft(ctx, id)
	if err != nil {
		return err
	}
	plan := draft.Plan.V
	problems, err := e.Problems(ctx, q, plan)
	if err != nil {
		return err
	}
	if len(problems) > 0 {
		return &Unready{problems}
	}
	now := e.Now()
	v := store.Version{Sequence: id, Plan: draft.Plan, Entry: q.Entry, Launched: now}
	if plan.LaunchHold {
		until := calendar.Span{N: 1, Unit: calendar.WorkingDays}.After(now, e.Zone, calendar.Working{})
		v.Hold = &until
	}
	err = e.Store.InTx(ctx, func(tx store.Tx) error {
		var ids []int64
		var steps []int32
		for _, s := range plan.Steps {
			steps = append(steps, int32(s.About().ID))
			if m, ok := s.(*sequence.Email); ok {
				ids = append(ids, m.Message)
			}
		}
		if v.Messages.V, err = store.MessageVersions(ctx, tx, ids); err != nil {
			return err
		}
		version, err := store.AddVersion(ctx, tx, v, user)
		if err != nil {
			return err
		}
		if move {
			if _, err := store.MoveEnrolments(ctx, tx, id, version, steps, now); err != nil {
				return err
			}
		}
		return store.Notify(ctx, tx, topic("sequence", id))
	})
	if err == nil {
		e.Nudge()
	}
	return err
}

// ErrNotRunning is answered where a sequence is not in the state an action is for.
var ErrNotRunning = errors.New("the sequence is not in that state any more")

// Hold stops everything of a running sequence where it stands: nobody is
// walked on and nothing goes out until it runs again.
func (e *Engine) Hold(ctx context.Context, id int64) error {
	return e.setState(ctx, id, "running", "held")
}

// Resume lets a held sequence run on.
func (e *Engine) Resume(ctx context.Context, id int64) error {
	return e.setState(ctx, id, "held", "running")
}

func (e *Engine) setState(ctx context.Context, id int64, from, to string) error {
	ok, err := e.Store.SetSequenceState(ctx, id, from, to, e.Now())
	if err == nil && !ok {
		err = ErrNotRunning
	}
	e.Nudge()
	return err
}

// enterPerTurn bounds how many people one turn enters into one sequence.
const enterPerTurn = 2000

// EnterByRules enters the people for whom the rule of a running sequence holds
// and who have not been on it. It answers how many.
func (e *Engine) EnterByRules(ctx context.Context) (int64, error) {
	var entered int64
	err := e.Store.InTx(ctx, func(tx store.Tx) error {
		ok, err := store.LockEntry(ctx, tx)
		if err != nil || !ok {
			return err
		}
		list, err := store.EnteredByRule(ctx, tx)
		if err != nil {
			return err
		}
		now := e.Now()
		for _, q := range list {
			people, err := store.PeopleFor(ctx, tx, q.Entry.V.Rule, q.Sequence, now, enterPerTurn)
			if err != nil {
				return err
			}
			if len(people) == 0 {
				continue
			}
			n, err := store.Enrol(ctx, tx, q.Sequence, q.Version, sequence.StepID(q.Start), people, now)
			if err != nil {
				return err
			}
			entered += n
			if err := store.Notify(ctx, tx, topic("sequence", q.Sequence)); err != nil {
				return err
			}
		}
		return nil
	})
	return entered, err
}
