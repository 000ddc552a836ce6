package engine

import (
	"context"

	"ombak/internal/core/act"
	"ombak/internal/core/handoff"
	"ombak/internal/core/person"
	"ombak/internal/core/plainly"
	"ombak/internal/store"
)

// do does some things for a person because of something they did; how says
// what, as their history keeps it. What it is to be done with, and is not there
// any more, is passed over: a reader must not meet an error for it.
func (e *Engine) do(ctx context.Context, tx store.Tx, acts []act.Act, reader int64, how string) error {
	now := e.Now()
	for _, a := range acts {
		var err error
		switch a.Do {
		case act.Tag:
			var id int64
			if id, err = store.TagNamed(ctx, tx, a.What, 0, now); err == nil {
				err = e.markIn(ctx, tx, reader, person.Mark(person.TagMark, id), how)
			}
		case act.Audience:
			err = e.markIn(ctx, tx, reader, person.Mark(person.AudienceMark, a.ID()), how)
		case act.Task, act.Alert:
			if err = store.AddTask(ctx, tx, reader, a.To, a.Do == act.Alert, a.What, how, now); err == nil {
				err = store.Notify(ctx, tx, "desk")
			}
		case act.Enrol:
			var q store.RunningEntry
			if q, err = store.RunningSequence(ctx, tx, a.ID()); err == nil {
				err = e.enter(ctx, tx, q, reader)
			}
		case act.Assign:
			err = e.assign(ctx, tx, reader, a.To, how)
		}
		if err != nil && !store.IsNotFound(err) {
			return plainly.Errorf("%s: %w", a.Do, err)
		}
	}
	return nil
}

// enter enters one person into a running sequence.
func (e *Engine) enter(ctx context.Context, tx store.Tx, q store.RunningEntry, reader int64) error {
	if _, err := store.Enrol(ctx, tx, &q, []int64{reader}, e.Now()); err != nil {
		return err
	}
	return store.Notify(ctx, tx, topic("sequence", q.Sequence))
}

// assign gives whoever has no owner one: user, or where that is 0 the rep whose
// turn it is. Where no rep has room nobody becomes the owner.
func (e *Engine) assign(ctx context.Context, tx store.Tx, reader, user int64, how string) error {
	owner, err := store.OwnerOf(ctx, tx, reader)
	if err != nil || owner != 0 {
		return err
	}
	if user == 0 {
		reps, err := store.RepsInTurn(ctx, tx)
		if err != nil {
			return err
		}
		if user, _ = handoff.Route(0, reps); user == 0 {
			return nil
		}
		if err := store.HadTurn(ctx, tx, user, e.Now()); err != nil {
			return err
		}
	}
	name, err := store.UserName(ctx, tx, user)
	if err != nil {
		return err
	}
	people, err := store.PeopleByID(ctx, tx, []int64{reader})
	if err != nil || people[reader] == nil {
		return err
	}
	p := people[reader]
	return e.applied(ctx, tx, []store.Edit{{P: p, Now: p.Values(), Set: person.Values{person.Owner: name}}}, store.Author{How: how, At: e.Now()})
}

// markIn sets a mark of a person, with a line in their history.
func (e *Engine) markIn(ctx context.Context, tx store.Tx, reader int64, mark person.Field, how string) error {
	people, err := store.PeopleByID(ctx, tx, []int64{reader})
	if err != nil || people[reader] == nil {
		return err
	}
	now, err := store.Marks(ctx, tx, []int64{reader}, []person.Field{mark})
	if err != nil {
		return err
	}
	before := now[reader]
	if before == nil {
		before = person.Values{}
	}
	if _, err := store.Change(ctx, tx, []store.Edit{{P: people[reader], Now: before, Set: person.Values{mark: "yes"}}}, store.Author{How: how, At: e.Now()}); err != nil {
		return err
	}
	return store.Notify(ctx, tx, "person")
}

// FinishTask keeps that a task is done, with what came of it.
func (e *Engine) FinishTask(ctx context.Context, id, user int64, notes string) (store.Task, error) {
	var t store.Task
	err := e.Store.InTx(ctx, func(tx store.Tx) error {
		err := mayWork(ctx, tx, user, store.TaskWork, id)
		if err != nil {
			return err
		}
		if t, err = store.FinishTask(ctx, tx, id, user, cut(notes, 5000), e.Now()); err != nil {
			return err
		}
		return store.Notify(ctx, tx, "desk", "person")
	})
	if store.IsNotFound(err) {
		err = ErrGone
	}
	return t, err
}

// SeeAlerts keeps that a user has seen alerts.
func (e *Engine) SeeAlerts(ctx context.Context, ids []int64, user int64) (seen []int64, err error) {
	err = e.Store.InTx(ctx, func(tx store.Tx) error {
		if seen, err = store.SeeAlerts(ctx, tx, ids, user, e.Now()); err != nil {
			return err
		}
		return store.Notify(ctx, tx, "desk")
	})
	return seen, err
}

// ReopenTask takes back that a user has done tasks or seen alerts.
func (e *Engine) ReopenTask(ctx context.Context, ids []int64, user int64) error {
	return e.Store.InTx(ctx, func(tx store.Tx) error {
		if err := store.ReopenTask(ctx, tx, ids, user); err != nil {
			return err
		}
		return store.Notify(ctx, tx, "desk", "person")
	})
}
